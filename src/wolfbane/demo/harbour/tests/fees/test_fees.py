"""Berth fees. Plain functions with bare asserts serve as well as classes."""

# tags: category=billing

import os
import unittest

from harbour.fees import berth_fee, late_fee, receipt


# tags: smoke
def test_summer_fee():
    assert berth_fee(length=10, nights=2, month=7) == 60


def test_winter_is_half():
    assert berth_fee(10, 2, month=1) * 2 == berth_fee(10, 2, month=7)


def test_currency_comes_from_the_suite():
    assert os.environ["HARBOUR_CURRENCY"] == "crowns"


class LateFeeTest(unittest.TestCase):
    def test_a_tenth_a_day(self):
        self.assertEqual(late_fee(60, days=2), 12)

    def test_never_more_than_the_fee(self):
        self.assertEqual(late_fee(60, days=30), 60)

    @unittest.skip("the harbour board has not decided on Sundays")
    def test_sundays_are_free(self):
        self.assertEqual(late_fee(60, days=7), 36)


class TwoHullsTest(unittest.TestCase):
    def test_catamaran_in_summer(self):
        self.assertEqual(berth_fee(10, 2, month=7, hulls=2), 90)

    def test_catamaran_in_winter(self):
        """An intended failure: the winter fee ignores the second hull."""
        print("a receipt for the Grey Heron")
        lines = receipt("Grey Heron", 10, 2, month=1, hulls=2)
        self.assertEqual(lines[-1], "fee     45 crowns")
