"""Which berth a boat fits."""

BERTHS = {"A1": (8, 1.2), "A2": (10, 1.6), "B1": (14, 2.2), "B2": (18, 2.8)}


def fitting(length, draught):
    """The smallest berth that is long and deep enough, or None.

    >>> fitting(length=9, draught=1.4)
    'A2'
    """
    for name, (longest, deepest) in BERTHS.items():
        if length <= longest and draught <= deepest:
            return name
    return None
