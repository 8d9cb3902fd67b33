"""Prints one failure in full: message, source location, output, and the command to run it again."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.text import Text

from wolfbane.kinds.protocols import HasLauncher
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.model import Evidence, Excerpt, Outcome, Part, Result
from wolfbane.reports.console.excerpt import excerpt_lines
from wolfbane.reports.console.layout import AsTheyAre, rule
from wolfbane.reports.console.repeats import repeats_shown
from wolfbane.reports.console.style import ACCOUNTS, STYLES, Page
from wolfbane.reports.text import clock, in_line, many, repeating, visible

SHOWN_LINES = 40
LONGEST = 2_000
"""Characters of a line in a message."""
SHOWN_OF_PART = 12
MANY = 3
"""Number of equal failures from which they are printed once."""
PLACES = 3
IN_THE_STEP = "\n\nin the step: "
"""The second part of a scenario's message."""


def print_failure(
    console: Page,
    result: Result,
    *,
    verbose: bool,
    folder: str = "",
    pointed: Sequence[str] = (),
) -> None:
    """Print one failure. All output of a test is shown as plain, safe text.

    ``folder`` is that of the run, before the paths of its evidence; ``pointed`` are the arguments
    that select the same environment.
    """
    style = STYLES[result.outcome]
    head = Text.assemble((f"{result.outcome}", style), "  ", (in_line(result.address), "bold"))
    head.append(_account(result), style="dim")
    across = rule(console, console.reading_width)
    across.stylize("dim")
    plain = console.options.ascii_only
    again = repeating(result.again or [result.address], pointed)
    blocks = [
        "",
        across,
        head,
        *_blocks(result, folder, verbose=verbose, plain=plain),
        Text.assemble(("\n  run it again: ", "dim"), again),
    ]
    console.print(AsTheyAre(blocks), soft_wrap=True)


def print_failures(
    console: Page,
    results: Iterable[Result],
    *,
    verbose: bool,
    folder: str,
    pointed: Sequence[str] = (),
) -> None:
    """Print failures. A failure that many tests share is printed once, with its other places."""
    groups: dict[object, list[Result]] = {}
    for result in results:
        groups.setdefault(result.address if verbose else _alike(result), []).append(result)
    for first, *others in groups.values():
        few = len(others) < MANY and not _of_the_whole_file(first)
        for result in (first, *others) if few else (first,):
            print_failure(console, result, verbose=verbose, folder=folder, pointed=pointed)
        if others and not few:
            files = {result.path for result in others}
            where = f"in {many(len(files), 'file')}" if len(files) > 1 else f"of {min(files)}"
            title = f"{many(len(others), 'more test')} {in_line(where)} with the same failure:"
            console.print(_places(title, others), style="dim", soft_wrap=True)


def _alike(result: Result) -> object:
    """The common parts of equal failures: the text, and its source line.

    Without a line, it is an error of the whole file, and so of each of its tests. Files that fail
    as a whole may have one reason: that of their crate.
    """
    inmost = result.frames[-1:]
    where = inmost or (result.name and result.path, result.browser, result.target)
    own = result.address if result.earlier else ""  # its attempts are shown, too
    return result.outcome, result.message.partition(IN_THE_STEP)[0], where, own


def _of_the_whole_file(result: Result) -> bool:
    content = (result.frames, result.trace, result.parts, result.earlier, result.evidence)
    return result.outcome is not Outcome.FAILED and not any(content)


def _places(title: str, results: Sequence[Result]) -> Text:
    """The first places of a failure that many tests share, and the number of further ones."""
    lines = [f"\n  {title}", *(f"    {in_line(result.address)}" for result in results[:PLACES])]
    if len(results) > PLACES:
        lines.append(f"    and {len(results) - PLACES:,} more")
    return Text("\n".join(lines))


def print_flaky(console: Page, result: Result, folder: str) -> None:
    """A test that passed in the end, and each earlier attempt."""
    head = Text.assemble((f"{result.outcome}", STYLES[result.outcome]), "  ")
    head.append(in_line(result.address), style="bold")
    head.append(f"  passed on attempt {result.attempt}", style="dim")
    console.print()
    console.print(rule(console, console.reading_width), style="dim")
    console.print(head, soft_wrap=True)
    for line in _attempts(result, folder):
        console.print(line, soft_wrap=True)


def _attempts(result: Result, folder: str) -> Iterator[Text]:
    """The other attempts: the outcome of each, and its evidence."""
    if result.repeated:
        yield Text(f"\n  {repeats_shown(result.repeated)}")
    for earlier in result.earlier:
        line = Text.assemble((f"\n  attempt {earlier.attempt}  ", "dim"))
        line.append(f"{earlier.outcome}", style=STYLES[earlier.outcome])
        line.append(f"  {clock(earlier.seconds)}", style="dim")
        if earlier.message == result.message:
            line.append("  with the same message", style="dim")
        else:
            for text in visible(earlier.message).splitlines()[:SHOWN_OF_PART]:
                line.append(f"\n    {text}")
        for kept in _evidence(earlier, folder):
            line.append(f"\n    {kept}", style="dim")
        yield line


def print_blocked(
    console: Page, results: Iterable[Result], folder: str, pointed: Sequence[str] = ()
) -> None:
    """The missing things, each once, with the number of tests and suites that it blocks."""
    groups: dict[str, list[Result]] = {}
    for result in results:
        if result.outcome is Outcome.BLOCKED:
            groups.setdefault(result.message, []).append(result)
    for members in groups.values():
        if len(members) == 1 or any(result.output for result in members):
            longest = max(members, key=lambda r: len(r.output))
            print_failure(console, longest, verbose=False, folder=folder, pointed=pointed)
        if len(members) > 1:
            _print_group(console, members)


def _print_group(console: Page, members: Sequence[Result]) -> None:
    suites = ", ".join(dict.fromkeys(result.suite for result in members))
    console.print()
    console.print(rule(console, console.reading_width), style="dim")
    head = Text.assemble((f"{Outcome.BLOCKED}", STYLES[Outcome.BLOCKED]), "  ")
    head.append(f"{many(len(members), 'test')} of {visible(suites)}", style="bold")
    console.print(head, soft_wrap=True)
    console.print(_message(members[0].message), soft_wrap=True)
    if all(result.frames for result in members):  # it has a place in each: a step without function
        console.print(_places("in:", members), style="dim", soft_wrap=True)


def _blocks(result: Result, folder: str, *, verbose: bool, plain: bool) -> Iterator[Text | str]:
    if result.message:
        yield _message(result.message if verbose else _shortened(result.message))
    if result.excerpt is not None:
        yield ""
        yield from _excerpt(result.excerpt, plain=plain)
    calls = [f"{frame.file}:{frame.line} in {frame.function}" for frame in result.frames]
    if len(calls) > 1 and not verbose:
        yield from _section("call stack", "\n".join(calls[-6:]))
    if result.trace and (verbose or _says_more(result)):
        yield from _section("trace", _tail(result.trace, verbose=verbose))
    points = list(_bad_parts(result.parts, result.message))
    if points:
        parts = find_kind(result.kind).parts_are if result.kind in KINDS else "parts"
        yield from _section(f"failed {parts}", "\n".join(points[:SHOWN_LINES]))
    if result.output.strip():
        yield from _section("output", _tail(result.output, verbose=verbose))
    if result.evidence:
        yield from _section("evidence", "\n".join(_evidence(result, folder)))
    yield from _attempts(result, folder)


def _says_more(result: Result) -> bool:
    """Whether the trace is the suite's own report of a failure, beyond the message."""
    known = result.kind in KINDS and isinstance(find_kind(result.kind), HasLauncher)
    return known and result.trace != result.message


def _evidence(result: Result, folder: str) -> list[str]:
    """A line for each file, and one for the name and the step of a step's attachment.

    A screenshot of each step is one line for all; files only for the page are left out.
    """
    pictures = [kept for kept in result.evidence if kept.kind == "picture"]
    shown = [kept for kept in result.evidence if kept.kind not in ("picture", "replay")]
    kinds = max((len(kept.kind) for kept in result.evidence), default=0)
    lines = []
    if pictures:
        more = f", and {len(pictures) - 1} more" if len(pictures) > 1 else ""
        lines.append(f"{'picture':<{kinds}}  {folder}/{pictures[0].path}{more}")
    for kept in shown:
        lines.append(f"{kept.kind:<{kinds}}  {folder}/{kept.path}")
        if text := attached(kept, result.parts):
            lines.append(f"{'':<{kinds}}  {text}")
    return lines


def attached(kept: Evidence, parts: Sequence[Part]) -> str:
    """A step's attachment as text: its name and the step; empty for other evidence."""
    step = in_line(parts[kept.part - 1].name) if 0 < kept.part <= len(parts) else ""
    texts = [in_line(kept.name), f"attached by: {step}" if step else ""]
    return ", ".join(filter(None, texts))


def _shortened(message: str) -> str:
    """A message without the middle if it is long, and without the ends of long lines."""
    lines = message.split("\n")
    lines = [line if len(line) <= LONGEST else f"{line[:LONGEST]} ..." for line in lines]
    hidden = len(lines) - 2 * SHOWN_LINES
    if hidden <= 0:
        return "\n".join(lines)
    left = f"[{hidden:,} lines hidden; use --verbose to show all]"
    return "\n".join([*lines[:SHOWN_LINES], left, *lines[-SHOWN_LINES:]])


_DIFFERENCE = {"+": "dark_cyan", "-": "indian_red1"}
"""Styles of lines in a difference, by their first character."""


def _message(message: str) -> Text:
    first, _, rest = visible(message).partition("\n")
    text = Text(f"  {first}\n", style="bold")
    for line in rest.splitlines():
        text.append(f"  {line}\n", style=f"not bold {_DIFFERENCE.get(line[:1], '')}")
    text.rstrip()
    return text


def _excerpt(excerpt: Excerpt, *, plain: bool) -> Iterator[Text]:
    yield Text(f"  {excerpt.file}:{excerpt.line}", style="dim")
    for gutter, line, here in excerpt_lines(excerpt, plain=plain):
        style = "bold" if here else ""
        yield Text.assemble((f"  {gutter} ", "mark" if here else "dim"), (line, style))


def _section(title: str, body: str) -> Iterator[Text | str]:
    yield Text(f"\n  {title}:", style="dim")
    yield "\n".join(f"    {line}".rstrip() for line in visible(body).rstrip().splitlines())


def _bad_parts(parts: tuple[Part, ...], message: str, depth: int = 0) -> Iterator[str]:
    for part in parts:
        if part.outcome in (Outcome.FAILED, Outcome.ERRORED):
            location = f"  ({part.file}:{part.line})" if part.line else ""
            yield f"{'  ' * depth}{part.outcome}  {part.name}{location}"
            news = part.message if part.message not in message else ""
            for line in news.splitlines()[:SHOWN_OF_PART]:
                yield f"{'  ' * depth}  | {line.removeprefix('#').rstrip()}"
            yield from _bad_parts(part.parts, message, depth + 1)


def _tail(output: str, *, verbose: bool) -> str:
    lines = output.rstrip().splitlines()
    if verbose or len(lines) <= SHOWN_LINES:
        return "\n".join(lines)
    hidden = len(lines) - SHOWN_LINES
    head = f"[{hidden} earlier lines hidden; use --verbose to show all]"
    return "\n".join([head, *lines[hidden:]])


def part_lines(
    parts: Sequence[Part], evidence: Sequence[Evidence] = (), folder: str = "", depth: int = 1
) -> Iterator[Text]:
    """The parts of a test, one per line, indented below it, with their attachments."""
    for number, part in enumerate(parts, 1):
        yield Text.assemble(
            "  " * depth, (f"{part.outcome}", STYLES[part.outcome]), f"  {in_line(part.name)}"
        )
        for kept in (each for each in evidence if each.part == number):
            message = "  ".join(filter(None, [in_line(kept.name), f"{folder}/{kept.path}"]))
            yield Text(f"{'  ' * depth}  attached  {message}", style="dim")
        yield from part_lines(part.parts, depth=depth + 1)


def one_line(result: Result) -> Text:
    """A result in one line, for the live view."""
    return Text.assemble(
        (f"{result.outcome}", STYLES[result.outcome]),
        f"  {in_line(result.address)}",
        (f"  {clock(result.seconds)}", "dim"),
        (_account(result), "dim"),
    )


def _account(result: Result) -> str:
    return f"  {ACCOUNTS[result.account]}" if result.account in ACCOUNTS else ""
