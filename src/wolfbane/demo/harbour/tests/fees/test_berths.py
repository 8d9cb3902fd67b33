"""Which berth a boat fits."""

from harbour.berths import fitting


# tags: smoke
def test_dinghy_gets_the_smallest():
    assert fitting(4, 0.4) == "A1"


def test_draught_counts_too():
    assert fitting(8, 2.0) == "B1"


def test_nothing_fits_a_barge():
    assert fitting(40, 3.0) is None


# tags: wip
def test_rafting_up():
    assert fitting(40, 3.0) == "B1+B2"
