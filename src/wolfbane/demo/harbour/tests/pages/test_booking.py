"""The booking form: the requests that it rejects, and those that it accepts."""

import os
import unittest

from webdriver import Browser


class BookingForm(unittest.TestCase):
    def setUp(self):
        self.browser = Browser()
        self.addCleanup(self.browser.quit)
        self.browser.open("book.html")
        self.browser.find("#berth option")

    def test_asks_for_the_boat(self):
        self.browser.click("#book")
        self.assertEqual(self.browser.text("#said.bad"), "Which boat?")

    def test_refuses_a_wrong_word(self):
        self.fill("Grey Heron", "8", "not the word")
        self.assertEqual(self.browser.text("#said.bad"), "the token is not right")

    def test_books(self):
        self.fill("Grey Heron", "8", os.environ["HARBOUR_TOKEN"])
        self.assertRegex(self.browser.text("#said.good"), r"^Booking \d+: [\d.]+ crowns$")

    def fill(self, boat, length, word):
        self.browser.type("#boat", boat)
        self.browser.type("#length", length)
        self.browser.type("#word", word)
        self.browser.click("#book")
