"""Heights of the water through a tide."""

import unittest

from harbour.tides import PERIOD, clearance, height


class HeightTest(unittest.TestCase):
    # tags: smoke
    def test_high_water(self):
        self.assertAlmostEqual(height(0), 5.4)

    # tags: smoke
    def test_low_water(self):
        self.assertAlmostEqual(height(PERIOD / 2), 0.8)

    def test_the_tide_comes_back(self):
        for tide in range(1, 5):
            with self.subTest(tide=tide):
                self.assertAlmostEqual(height(tide * PERIOD), height(0))

    def test_half_tide_is_the_mean(self):
        self.assertAlmostEqual(height(PERIOD / 4), 3.1)


class ClearanceTest(unittest.TestCase):
    def test_dinghy_floats_at_half_tide(self):
        self.assertGreater(clearance(PERIOD / 4, draught=0.4), 0)

    def test_ketch_is_aground_at_low_water(self):
        self.assertLess(clearance(PERIOD / 2, draught=1.9), 0)

    @unittest.expectedFailure
    def test_sill_is_level(self):
        """The sill has sunk on the seaward side; the survey is due in spring."""
        self.assertEqual(clearance(0, draught=1.0, sill=1.0), clearance(0, draught=1.0, sill=1.1))
