"""Receipts."""

from harbour.fees import receipt


def test_receipt_names_the_boat():
    assert receipt("Grey Heron", 10, 2, 7)[0] == "boat    Grey Heron"


# Quarantined: see quarantine.toml.
def test_receipt_names_the_season():
    assert "season  summer" in receipt("Grey Heron", 10, 2, 7)
