"""Berth fees, in whole crowns."""

NIGHT_PER_METRE = 3
WINTER_SHARE = 0.5
WINTER = {11, 12, 1, 2}


def berth_fee(length, nights, month, hulls=1):
    """The fee for a stay: per metre and night, half the price in winter, 1.5 times the price for two hulls.

    >>> berth_fee(length=10, nights=2, month=7)
    60
    >>> berth_fee(10, 2, month=7, hulls=2)
    90
    """
    fee = length * nights * NIGHT_PER_METRE
    if month in WINTER:
        return round(fee * WINTER_SHARE)
    return round(fee * 1.5) if hulls == 2 else fee


def receipt(boat, length, nights, month, hulls=1):
    """The lines of a receipt."""
    return [
        f"boat    {boat}",
        f"length  {length} m",
        f"nights  {nights}",
        f"fee     {berth_fee(length, nights, month, hulls)} crowns",
    ]


def late_fee(fee, days):
    """A late fee of one tenth per day, at most the fee itself.

    >>> [late_fee(60, days) for days in (1, 5, 30)]
    [6, 30, 60]
    """
    return min(fee, fee // 10 * days)
