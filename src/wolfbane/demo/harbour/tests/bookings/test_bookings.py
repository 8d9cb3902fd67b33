"""Bookings, over the service's JSON."""

import unittest

from harbour.client import ask


class BerthsTest(unittest.TestCase):
    # tags: smoke
    def test_service_is_up(self):
        status, health = ask("GET", "/health")
        self.assertEqual((status, health["status"]), (200, "up"))

    # tags: smoke
    def test_every_berth_has_a_depth(self):
        """Passes in the local environment; on staging, one berth has no depth."""
        _, berths = ask("GET", "/berths")
        self.assertEqual([berth["id"] for berth in berths if not berth["depth"]], [])

    def test_unknown_berth(self):
        status, answer = ask("GET", "/berths/Z9")
        self.assertEqual((status, answer["error"]), (404, "there is no /berths/Z9"))


class BookingTest(unittest.TestCase):
    # tags: category=billing
    def test_book_and_cancel(self):
        status, booking = ask("POST", "/bookings", {"berth": "A1", "boat": "Grey Heron", "nights": 2})
        self.assertEqual(status, 201, booking)
        place = f"/bookings/{booking['number']}"
        self.assertEqual(ask("GET", place)[1]["boat"], "Grey Heron")
        self.assertEqual(ask("DELETE", place)[0], 200)
        self.assertEqual(ask("GET", place)[0], 404)

    def test_boat_too_long(self):
        wish = {"berth": "A1", "boat": "Long Ebb", "nights": 1, "length": 40}
        status, answer = ask("POST", "/bookings", wish)
        self.assertEqual(status, 409, answer)

    def test_wrong_token(self):
        wish = {"berth": "A1", "boat": "Grey Heron", "nights": 1}
        self.assertEqual(ask("POST", "/bookings", wish, token="high-water")[0], 401)
