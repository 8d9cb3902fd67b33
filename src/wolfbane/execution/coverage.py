"""What a run exercised of the APIs that its suites have descriptions of."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

from wolfbane.events import Covered, Exercised
from wolfbane.inventory import Inventory


def coverage(inventory: Inventory, exercised: Mapping[Exercised, int]) -> Iterator[Covered]:
    """An event for each description of which something was called."""
    counts: dict[str, Counter[tuple[str, str, str]]] = {}
    for key, count in exercised.items():
        by_answer = counts.setdefault(key.source, Counter())
        by_answer[key.operation, key.status, key.media] += count
    known = _operations(inventory) if counts else {}
    for source, by_answer in counts.items():
        called = {name for name, _, _ in by_answer}
        missing = [name for name in known.get(source, ()) if name not in called]
        rows = [(*answer, count) for answer, count in sorted(by_answer.items())]
        yield Covered(source, tuple(rows), tuple(missing))


def _operations(inventory: Inventory) -> dict[str, list[str]]:
    """The names of all operations, by the file of their description."""
    from wolfbane.formats.documents import DocumentError  # it takes a while to load
    from wolfbane.formats.library import Library, Unknown

    found: dict[str, list[str]] = {}
    for file in inventory.files.values():
        if file.kind == "workflow" and not file.error:
            try:
                suite = inventory.workspace.suite(file.suite)
                library = Library(inventory.workspace.root, file.path, copies=suite.http.copies)
                for description in library.descriptions:
                    found[description.name] = [o.name for o in description.operations]
            except (DocumentError, Unknown, OSError):
                continue  # it was right when it ran; what became of it since is no matter here
    return found
