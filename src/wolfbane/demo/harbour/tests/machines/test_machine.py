"""One of the quay's machines: which one is the parameter 'machine'."""

import os
import unittest

from harbour.client import ask


class MachineTest(unittest.TestCase):
    def setUp(self):
        self.name = os.environ["QUAY_MACHINE"]
        status, self.machine = ask("GET", f"/machines/{self.name}")
        self.assertEqual(status, 200, self.machine)

    def test_works(self):
        self.assertIn(self.machine["state"], ("ready", "running"))

    def test_has_pressure(self):
        least = 150 if self.name.startswith("crane") else 50
        self.assertGreaterEqual(self.machine["pressure"], least)
