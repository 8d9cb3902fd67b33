"""Tide heights at Saltmarsh: a simple model with one cosine."""

import math

PERIOD = 12.42  # hours from one high water to the next
MEAN, RANGE = 3.1, 4.6  # metres above the harbour's own zero


def height(hours_after_high_water):
    """Water height in metres."""
    return MEAN + RANGE / 2 * math.cos(2 * math.pi * hours_after_high_water / PERIOD)


def clearance(hours_after_high_water, draught, sill=1.0):
    """Metres of water under a keel over the harbour sill; negative is aground."""
    return round(height(hours_after_high_water) - sill - draught, 2)


def windows(draught, day=24.0, step=0.25, sill=1.0):
    """Spans of hours in which a boat of this draught may cross the sill."""
    spans, opened = [], None
    for quarter in range(int(day / step) + 1):
        hour = quarter * step
        if clearance(hour, draught, sill) > 0:
            opened = hour if opened is None else opened
        elif opened is not None:
            spans.append((opened, hour - step))
            opened = None
    return [*spans, (opened, day)] if opened is not None else spans
