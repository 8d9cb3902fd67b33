"""The steps for the harbour master's rules. The annotation of a placeholder defines its type."""

from harbour.berths import BERTHS, fitting
from harbour.fees import berth_fee
from wolfbane.steps import attach, given, then, when


@given("a draught of {draught} metres")
def has_draught(shared, draught: float):
    shared.draught = draught


@when("a boat of {length} metres asks")
def asks(shared, length: float):
    shared.berth = fitting(length, shared.draught)


@given("the list")
def listed(shared, table):
    shared.list = {row["boat"]: row["berth"] for row in table.records}


@when("{boat} comes [back ]in")
def comes_in(shared, boat: str):
    shared.berth = shared.list[boat]


@then("it lies in {name}")
def lies_in(shared, name: str):
    attach(plan(shared.berth), "berths.svg")
    assert shared.berth == name


@then("the harbour master rings the bell")
def rings():
    """Written in advance: no rule uses it yet."""


def plan(taken):
    """The berths as a picture, with the assigned berth in another colour."""
    boxes = "".join(
        f'<rect x="{10 + 90 * n}" y="10" width="80" height="{10 * length}" rx="6" '
        f'fill="{"#2f7f86" if name == taken else "#dfe9ea"}"/>'
        f'<text x="{50 + 90 * n}" y="40" font-group="sans-serif" text-anchor="middle" '
        f'fill="{"#fff" if name == taken else "#333"}">'
        f"{name}: {length} m</text>"
        for n, (name, (length, _)) in enumerate(BERTHS.items())
    )
    width = 20 + 90 * len(BERTHS)
    return f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="200">{boxes}</svg>'


@then("it is sent on with the words {words}")
def sent_on(shared, words: str):
    assert shared.berth is None
    print(f"the harbour master says: {words}")


@when("a boat of {length} metres stays {nights} nights in month {month}")
def stays(shared, length: float, nights: int, month: int):
    shared.fee = berth_fee(length, nights, month)


@then("it pays {fee} crowns")
def pays(shared, fee: int):
    assert shared.fee == fee
