"""The steps behind the harbour master's rules. A hole takes what its annotation says."""

from harbour.berths import fitting
from harbour.fees import berth_fee
from wolfbane.steps import given, then, when


@given("a draught of {draught} metres")
def has_draught(shared, draught: float):
    shared.draught = draught


@when("a boat of {length} metres asks")
def asks(shared, length: float):
    shared.berth = fitting(length, shared.draught)


@then("it lies in {name}")
def lies_in(shared, name: str):
    assert shared.berth == name


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
