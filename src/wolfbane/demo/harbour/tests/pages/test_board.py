"""The tide board."""

import unittest

from webdriver import Browser


class TideBoard(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.quit)

    def test_shows_the_day_of_its_address(self):
        self.browser.open("board.html?day=2026-06-01")
        self.assertRegex(self.browser.text("#tides td:first-child"), r"^\d\d:\d\d$")
        self.assertRegex(self.browser.text("#tides td + td"), r"^\d\.\d\d m$")

    def test_says_that_a_day_does_not_exist(self):
        self.browser.open("board.html?day=2026-02-30")
        self.assertEqual(self.browser.text("#tides td"), "there is no such day")
