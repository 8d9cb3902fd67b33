"""When a boat may cross the sill."""

import asyncio
import unittest

from harbour.tides import windows


class WindowTest(unittest.TestCase):
    def test_shallow_boat_has_long_windows(self):
        self.assertGreater(total(windows(0.3)), total(windows(2.0)))

    def test_a_day_has_two_or_three_windows(self):
        self.assertIn(len(windows(1.5)), (2, 3))

    def test_full_season_never_closes_the_harbour(self):
        days = [windows(1.5, day=24.0 * day) for day in range(1, 60)]
        self.assertTrue(all(days))

    # tags: wip
    def test_spring_tides(self):
        self.fail("spring tides are not modelled yet")


class TideBoardTest(unittest.IsolatedAsyncioTestCase):
    async def test_board_waits_for_the_gauge(self):
        gauge = asyncio.Queue()
        await gauge.put(3.1)
        self.assertEqual(await gauge.get(), 3.1)


def total(spans):
    return sum(end - start for start, end in spans)
