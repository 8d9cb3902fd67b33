"""Suites behind a bridge at scale: what it costs, a large Java tree listed, a huge report read.

    python benchmarks/bridges.py

`list` on 2,000 Java files with 20,000 annotated tests is to take at most 6 s when they were never
seen, on two cores, and 0.5 s afterwards. A run that reads 200 MB of xUnit-style XML is to stay
under 300 MB of memory. A run of 200 files in one start is to take at most 1.10 times as long as the
launcher alone, and a run of one file 0.15 s longer. A run of 2,000 tests by name in one start is to
take at most 1.10 times as long as the launcher alone with these names.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

WOLFBANE = f"{Path(sys.executable).parent}/wolfbane"
FILES, TESTS_EACH = 2_000, 10
ENTRIES = 400_000
SUITE = '[[suite]]\nname = "ledger"\nkind = "bridge"\npaths = ["src"]\nbridge = "bridge.toml"\n'
QUERY = """
about = "the ledger's launcher"
find = { files = ["*Test.java"], query = { grammar = "java", text = '''
(class_declaration name: (identifier) @group.name) @group
(class_declaration (modifiers (annotation arguments: (annotation_argument_list
  (element_value_pair key: (identifier) @tag.key value: (string_literal) @tag.value))))
  name: (identifier) @group.name) @group
(method_declaration (modifiers (annotation name: (identifier) @kind
    arguments: (annotation_argument_list (string_literal) @tag)))
  name: (identifier) @test.name (#eq? @kind "Case")) @test
''' } }
run = { command = ["sh", "{names}"], names = { how = "each" } }
read = { format = "events" }
"""
BRIDGE = """
about = "says a lot"
find = { files = ["*.all"], lines = { test = '^(?P<name>test_0)$' } }
run = { command = ["cp", "huge.xml", "{report}"], names = { how = "files" } }
read = { format = "xunit", report = "{scratch}/huge.xml" }
"""
LAUNCHER = """
import sys
for path in sys.argv[1:]:
    name = path.rpartition("/")[2].removesuffix(".quay")
    text = open(path).read()
    sum(number * number for number in range(250_000))  # about the work of a small test file
    print("ok", name if "test" in text else "?", flush=True)
"""
LAUNCHED = """
about = "the quay's launcher"
find = { files = ["*.quay"], lines = { test = '^test (?P<name>\\w+)' } }
[run]
command = ["python3", "launcher.py", "{files}", ["--", "{names}"]]
per = "suite"
names = { how = "each", omit = "always" }
[read]
format = "lines"
passed = '^ok (?P<name>\\w+)'
failed = '^no (?P<name>\\w+)'
"""
NAMED_LAUNCHER = """
import sys
names = set(open(sys.argv[2]).read().split())
for path in sorted(__import__("glob").glob("src/*.quay")):
    for name in (line.split()[1] for line in open(path)):
        if name in names:
            sum(number * number for number in range(60_000))  # a few milliseconds
            print("ok", name, flush=True)
"""
NAMED = LAUNCHED.replace('"{files}", ["--", "{names}"]', '["--from", "{names}"]').replace(
    'how = "each", omit = "always"', 'how = "list", omit = "never"'
)
METHOD = """
    /** The account of berth {n} adds up, whatever was booked twice. */
    @Case("{tag}")
    void account{n}AddsUp() {{
        Account account = book.open("berth-{n}");
        for (Entry entry : account.entries()) {{
            if (entry.amount() > {n} && !entry.closed()) {{
                sum = sum.plus(entry.amount());
            }}
        }}
        Check.same(account.total(), sum, "berth {n} does not add up");
    }}
"""
TAGS = ("smoke", "slow", "night", "fees")


def listing(folder: Path) -> None:
    """List the tests of a large Java tree, never seen and seen before."""
    (folder / "wolfbane.toml").write_text(SUITE)
    (folder / "bridge.toml").write_text(QUERY)
    for number in range(FILES):
        methods = "".join(METHOD.format(n=n, tag=TAGS[n % 4]) for n in range(TESTS_EACH))
        file = folder / "src" / f"quay{number % 40}" / f"Ledger{number}Test.java"
        file.parent.mkdir(parents=True, exist_ok=True)
        head = f'package quay{number % 40};\n\n@Suite(category = "billing")\n'
        file.write_text(f"{head}class Ledger{number}Test {{{methods}}}\n")
    told = f"{FILES * TESTS_EACH:,} tests in {FILES:,} files"
    print(f"listed cold  {_seconds(folder):6.2f} s  {told} (at most 6)")
    warm = statistics.median(_seconds(folder) for _ in range(7))
    print(f"listed warm  {warm:6.2f} s  (at most 0.5)")


def _seconds(folder: Path) -> float:
    began = time.perf_counter()
    subprocess.run([WOLFBANE, "list"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def reading(folder: Path) -> None:
    """Run a suite whose launcher leaves a huge report, and look at the memory of the reader."""
    (folder / "wolfbane.toml").write_text(SUITE)
    (folder / "bridge.toml").write_text(BRIDGE)
    (folder / "src").mkdir()
    (folder / "src" / "day.all").write_text("test_0\n")
    with (folder / "huge.xml").open("w") as report:
        report.write("<testsuites><testsuite name='day'>\n")
        for number in range(ENTRIES):
            said = f"<system-out>{'berth looked at; ' * 25}</system-out>"
            report.write(f"<testcase name='t{number}' time='0.01'>{said}</testcase>\n")
        report.write("</testsuite></testsuites>\n")
    size = (folder / "huge.xml").stat().st_size / 1e6
    began = time.perf_counter()
    run = psutil.Popen([WOLFBANE, "run"], cwd=folder, stdout=subprocess.DEVNULL)
    most: dict[str, float] = {}
    while run.poll() is None:
        for process in (run, *_children(run)):
            name = "reader" if process.pid != run.pid else "wolfbane"
            most[name] = max(most.get(name, 0), _megabytes(process))
        time.sleep(0.02)
    seconds = time.perf_counter() - began
    told = ", ".join(f"{name} {megabytes:.0f} MB" for name, megabytes in sorted(most.items()))
    print(f"read         {seconds:6.2f} s  {size:.0f} MB of XML (exit {run.returncode}): {told}")


def launching(folder: Path) -> None:
    """Run 200 files in one start, and one file, beside the launcher alone."""
    (folder / "wolfbane.toml").write_text(SUITE)
    (folder / "bridge.toml").write_text(LAUNCHED)
    (folder / "launcher.py").write_text(LAUNCHER)
    (folder / "src").mkdir()
    for count, wanted in ((1, "at most 0.15 s more"), (200, "at most 1.10 times")):
        for number in range(count):
            (folder / "src" / f"t{number}.quay").write_text(f"test t{number}\n")
        files = sorted(str(path.relative_to(folder)) for path in (folder / "src").iterdir())
        alone, bridged = [], []
        for _ in range(7):  # taking turns: both see the same machine
            alone.append(_timed(folder, "python3", "launcher.py", *files))
            bridged.append(_timed(folder, WOLFBANE, "run", "-j", "1"))
        own, ours = statistics.median(alone), statistics.median(bridged)
        told = (
            f"{count} file{'s' * (count > 1)}: launcher alone {own:.2f} s, {ours / own:.2f} times"
        )
        print(f"launched     {ours:6.2f} s  {told}, {ours - own:.2f} s more ({wanted})")


def naming(folder: Path) -> None:
    """Run 2,000 tests by name in one start, and the launcher alone with the same names."""
    (folder / "wolfbane.toml").write_text(SUITE)
    (folder / "bridge.toml").write_text(NAMED)
    (folder / "launcher.py").write_text(NAMED_LAUNCHER)
    (folder / "src").mkdir()
    for file in range(40):
        names = [f"t{file * 50 + number}" for number in range(50)]
        (folder / "src" / f"f{file}.quay").write_text("".join(f"test {name}\n" for name in names))
    (folder / "names.txt").write_text("".join(f"t{number}\n" for number in range(2_000)))
    alone, bridged = [], []
    for _ in range(5):
        alone.append(_timed(folder, "python3", "launcher.py", "--from", "names.txt"))
        bridged.append(_timed(folder, WOLFBANE, "run", "-j", "1"))
    own, ours = statistics.median(alone), statistics.median(bridged)
    told = f"launcher alone {own:.2f} s, {ours / own:.2f} times (at most 1.10 times)"
    print(f"by name      {ours:6.2f} s  2,000 tests in one start: {told}")


def _timed(folder: Path, *command: str) -> float:
    began = time.perf_counter()
    subprocess.run(command, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def _children(process: psutil.Process) -> list[psutil.Process]:
    try:
        return process.children(recursive=True)
    except psutil.Error:
        return []


def _megabytes(process: psutil.Process) -> float:
    try:
        return float(process.memory_info().rss) / 1e6
    except psutil.Error:
        return 0.0


def main() -> None:
    """Each part in a folder of its own."""
    for part in (naming, launching, listing, reading):
        with tempfile.TemporaryDirectory() as folder:
            part(Path(folder))


if __name__ == "__main__":
    main()
