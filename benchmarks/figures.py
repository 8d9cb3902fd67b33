"""Wolfbane against the runtimes' own launchers: ratios of whole commands, in one run.

    python benchmarks/figures.py [NAME...]

Each pair of commands is run in turn, A B A B ..., and the medians are compared; a ratio is worth
more than a time, for machines drift. Nothing here is a test.
"""

from __future__ import annotations

import importlib.util
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

WOLFBANE = str(Path(sys.executable).parent / "wolfbane")
MODULES = (
    "test_argparse",
    "test_array",
    "test_bigmem",
    "test_bytes",
    "test_calendar",
    "test_collections",
    "test_copy",
    "test_csv",
    "test_dict",
    "test_enum",
    "test_fractions",
    "test_heapq",
    "test_itertools",
    "test_json",
    "test_list",
    "test_random",
    "test_set",
    "test_string",
    "test_textwrap",
    "test_unicode",
)


def seconds(command: Sequence[str], folder: Path) -> float:
    """The wall time of one command."""
    began = time.perf_counter()
    subprocess.run(
        command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False
    )
    return time.perf_counter() - began


def processor_seconds(command: Sequence[str], folder: Path) -> float:
    """The time of the processor for one command and what it starts."""
    before = os.times()
    seconds(command, folder)
    after = os.times()
    return (
        after.children_user + after.children_system - before.children_user - before.children_system
    )


def compare(
    title: str,
    ours: Sequence[str],
    theirs: Sequence[str],
    folder: Path,
    rounds: int,
    most: float,
    measure: Callable[[Sequence[str], Path], float] = seconds,
) -> None:
    """Run both in turn and print the medians and their ratio."""
    pairs = [(measure(ours, folder), measure(theirs, folder)) for _ in range(rounds)]
    mine, other = (statistics.median(column) for column in zip(*pairs, strict=True))
    ratio = mine / other
    verdict = "held" if ratio <= most else "OVER"
    print(f"{title:<44} {mine:8.2f} s {other:8.2f} s {ratio:6.2f}  (at most {most:.2f}: {verdict})")


def alone(title: str, command: Sequence[str], folder: Path, rounds: int, note: str = "") -> float:
    """Print the median of one command."""
    median = statistics.median(seconds(command, folder) for _ in range(rounds))
    print(f"{title:<44} {median:8.2f} s {note}")
    return median


@contextmanager
def place() -> Iterator[Path]:
    """A temporary folder."""
    with tempfile.TemporaryDirectory(prefix="wolfbane-bench-") as path:
        yield Path(path)


def machine() -> None:
    """What two processes at once gain on this machine: no run with two jobs can gain more."""
    count = [sys.executable, "-c", "for n in range(20_000_000): pass"]
    ratios = []
    for _ in range(5):
        one = seconds(count, Path())
        began = time.perf_counter()
        for process in [subprocess.Popen(count) for _ in range(2)]:
            process.wait()
        ratios.append((time.perf_counter() - began) / (2 * one))
    ratio = statistics.median(ratios)
    print(f"{'this machine: two processes, of one by one':<44} {ratio:28.2f}  (0.50 at best)")


def library() -> None:
    """Twenty of the interpreter's own test modules, one job and two."""
    result = importlib.util.find_spec("test.support")
    if result is None or result.origin is None:
        print("library: this interpreter comes without its own tests")
        return
    source = Path(result.origin).parent.parent
    with place() as root:
        shutil.copytree(source / "support", root / "test" / "support")
        shutil.copy(source / "__init__.py", root / "test")
        for path in source.iterdir():
            if path.name.startswith(("list_tests", "seq_tests", "string_tests", "mapping_tests")):
                shutil.copy(path, root / "test")
        present = [
            name for name in MODULES if list(source.glob(f"{name}.py")) or (source / name).is_dir()
        ]
        for name in present:
            whole = source / name
            if whole.is_dir():
                shutil.copytree(whole, root / "test" / name)
            else:
                shutil.copy(source / f"{name}.py", root / "test")
        own = [sys.executable, "-m", "unittest", *(f"test.{name}" for name in present)]
        compare("library modules, one job", [WOLFBANE, "run", "-q", "-j1"], own, root, 3, 1.00)
        compare("library modules, two jobs", [WOLFBANE, "run", "-q", "-j2"], own, root, 3, 0.55)


def empty() -> None:
    """Overhead for each test: ten thousand that do nothing."""
    with place() as root:
        for number in range(20):
            lines = ["import unittest", "class T(unittest.TestCase):"]
            lines += [f"    def test_{n}(self): pass" for n in range(500)]
            (root / f"test_{number}.py").write_text("\n".join(lines))
        own = statistics.median(
            seconds([sys.executable, "-m", "unittest", "discover"], root) for _ in range(3)
        )
        run = [WOLFBANE, "run", "-q", "-j1"]
        mine = statistics.median(seconds(run, root) for _ in range(3))
        print(f"{'10,000 empty tests, one job':<44} {mine:8.2f} s {own:8.2f} s")
        # What a run costs once is not the tests': the same with a single test is taken off.
        one = [sys.executable, "-m", "unittest", "test_0.T.test_0"]
        once = statistics.median(seconds([*run, "test_0.py#T / test_0"], root) for _ in range(5))
        once -= statistics.median(seconds(one, root) for _ in range(5))
        each = (mine - own - once) / 10_000 * 1e6
        print(f"{'  overhead for each test':<44} {each:8.0f} us (at most 80)")


def tiny() -> None:
    """What a run of one test costs the processor, with all processes that it starts."""
    with place() as root:
        (root / "test_one.py").write_text(
            "import unittest\n\nclass TideTest(unittest.TestCase):\n    def test_one(self): pass\n"
        )
        used = {"ours": [], "own": []}
        for _ in range(15):
            used["ours"].append(processor_seconds([WOLFBANE, "run"], root))
            used["own"].append(processor_seconds([sys.executable, "-m", "unittest"], root))
        ours, own = (statistics.median(each) for each in used.values())
        print(
            f"{'a run of one tiny test, CPU':<44} {ours:8.2f} s {own:8.2f} s {ours / own:6.2f}"
            "  (at most 0.25 s)"
        )


def listing() -> None:
    """Listing 20,000 tests in 600 files, never seen and seen before."""
    with place() as root:
        for number in range(600):
            folder = root / "tests" / f"area{number % 20}"
            folder.mkdir(parents=True, exist_ok=True)
            lines = ["import unittest", "", "class TideTest(unittest.TestCase):"]
            for n in range(34 if number < 200 else 33):
                lines += ["    # tags: smoke"] * (n % 5 == 0)
                lines += [
                    f"    def test_height_{n}(self):",
                    f"        self.assertEqual({n}, {n})",
                    "",
                ]
            (folder / f"test_file_{number}.py").write_text("\n".join(lines))
        (root / "wolfbane.toml").write_text('[[suite]]\nname="a"\nkind="python"\npaths=["tests"]\n')
        alone("list 20,000 tests, cold", [WOLFBANE, "list"], root, 1, "(at most 3)")
        alone("list 20,000 tests, warm", [WOLFBANE, "list"], root, 5, "(at most 0.3)")
        alone("list --tag smoke, warm", [WOLFBANE, "list", "--tag", "smoke"], root, 5)
        for typed in ("run --tag sm", "run --name TideTest", "run tests/area1/test_file_1.py#T"):
            line = f"wolfbane {typed}"
            ask = ["env", "WOLFBANE_COMPLETE=bash", f"WOLFBANE_LINE={line}", WOLFBANE]
            alone(f"complete '{typed}'", ask, root, 9, "(at most 0.15)")


def start() -> None:
    """How soon the program answers."""
    bare = [sys.executable, "-c", "import click"]
    compare(
        "wolfbane --version, against importing click", [WOLFBANE, "--version"], bare, Path(), 9, 2.0
    )


def tap() -> None:
    """A folder of Perl programs, against Perl's own harness."""
    if shutil.which("perl") is None:
        print("tap: no Perl here")
        return
    with place() as root:
        (root / "t").mkdir()
        for number in range(40):
            (root / "t" / f"a{number:02}.t").write_text(
                "use Test::More; ok $_ for 1 .. 2000; done_testing;"
            )
        script = (
            "use TAP::Harness; my $h = TAP::Harness->new({{verbosity => -3, jobs => {}}});"
            "$h->runtests(sort glob 't/*.t')"
        )
        for jobs in (1, 2):
            own = ["perl", "-e", script.format(jobs)]
            ours = [WOLFBANE, "run", "-q", f"-j{jobs}"]
            compare(f"Perl programs, {jobs} at a time", ours, own, root, 3, 1.00)
        alone_there = ["perl", "-e", script.format(1)]
        compare("  two at a time, against one there", ours, alone_there, root, 3, 0.60)


def node() -> None:
    """Forty files for the runtime's own test module, against its own launcher."""
    if shutil.which("node") is None:
        print("node: no Node.js here")
        return
    with place() as root:
        names = [f"t/a{number:02}.test.mjs" for number in range(40)]
        (root / "t").mkdir()
        for name in names:
            (root / name).write_text(
                "import { test } from 'node:test'; import assert from 'node:assert';\n"
                + "".join(f"test('t {n}', () => assert.equal({n}, {n}));\n" for n in range(50))
            )
        for jobs in (1, 2):
            own = ["node", "--test", f"--test-concurrency={jobs}", *names]
            ours = [WOLFBANE, "run", "-q", f"-j{jobs}"]
            alone(f"node files, {jobs} at a time, never seen", ours, root, 1)
            compare(f"node files, {jobs} at a time", ours, own, root, 3, 0.90)
            shutil.rmtree(root / ".wolfbane")


def cargo() -> None:
    """A crate whose tests take some time, compiled before, against the toolchain's own."""
    if shutil.which("cargo") is None:
        print("cargo: no Rust toolchain here")
        return
    with place() as root:
        (root / "src").mkdir()
        (root / "Cargo.toml").write_text('[package]\nname = "bench"\nversion = "0.1.0"\n')
        work = "let mut x = 1u64; for i in 0..N { x = x.wrapping_mul(31).wrapping_add(i) }"
        body = f"{{ {work} assert!(x != 0) }}".replace("N", "4_000_000")
        tests = "".join(f"#[test] fn t{n}() {body}\n" for n in range(200))
        (root / "src" / "lib.rs").write_text(tests)
        subprocess.run(["cargo", "test", "--no-run", "-q"], cwd=root, check=True)
        own = ["cargo", "test", "-q", "--", "--test-threads=1"]
        compare("a crate, one job", [WOLFBANE, "run", "-q", "-j1"], own, root, 3, 0.95)
        own = ["cargo", "test", "-q", "--", "--test-threads=2"]
        compare("a crate, two jobs", [WOLFBANE, "run", "-q", "-j2"], own, root, 3, 0.95)


def workflows() -> None:
    """A thousand workflows of one request each, against a loop of a plain HTTP client."""
    import http.server
    import threading

    class Desk(http.server.BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        disable_nagle_algorithm = True

        def do_GET(self) -> None:
            body = b'{"id": "A1", "length": 12}'
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *told: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Desk)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}"
    with place() as root:
        (root / "openapi.json").write_text(
            json.dumps(
                {
                    "openapi": "3.1.0",
                    "info": {"title": "bench", "version": "1"},
                    "servers": [{"url": url}],
                    "paths": {
                        "/berths/A1": {
                            "get": {
                                "operationId": "look",
                                "responses": {
                                    "200": {
                                        "description": "it",
                                        "content": {
                                            "application/json": {
                                                "schema": {
                                                    "type": "object",
                                                    "required": ["id", "length"],
                                                    "properties": {
                                                        "id": {"type": "string"},
                                                        "length": {"type": "number"},
                                                    },
                                                }
                                            }
                                        },
                                    }
                                },
                            }
                        }
                    },
                }
            )
        )
        workflow = {
            "steps": [
                {
                    "stepId": "look",
                    "operationId": "look",
                    "successCriteria": [{"condition": "$statusCode == 200"}],
                }
            ]
        }
        (root / "all.arazzo.json").write_text(
            json.dumps(
                {
                    "arazzo": "1.0.1",
                    "info": {"title": "bench", "version": "1"},
                    "sourceDescriptions": [{"name": "b", "url": "openapi.json"}],
                    "workflows": [{"workflowId": f"w{n}", **workflow} for n in range(1000)],
                }
            )
        )
        kind = '[[suite]]\nname = "a"\nkind = "workflow"\npaths = ["all.arazzo.json"]\n'
        (root / "wolfbane.toml").write_text(kind)
        loop = f"""import httpx
with httpx.Client() as client:
    for n in range(1000):
        assert client.get('{url}/berths/A1').json()['id'] == 'A1'"""
        ours = [WOLFBANE, "run", "-q", "-j1"]
        subprocess.run(ours, cwd=root, stdout=subprocess.DEVNULL, check=True)
        plain = [sys.executable, "-c", loop]
        compare("1,000 workflows of one request", ours, plain, root, 5, 1.5)
        title = "1,000 workflows of one request, CPU"
        compare(title, ours, plain, root, 5, 1.5, processor_seconds)
    server.shutdown()


def printing() -> None:
    """What a crate's test prints is read once: four times as much takes four times as long."""
    from wolfbane.kinds.cargo.runner.libtest import LibtestReader, TestEnding

    def read(text: str) -> float:
        def ignore(told: str | TestEnding) -> None: ...

        whole = f"\nrunning 1 test\ntest a ... {text}ok\n\ntest result: ok."
        reader, piece = LibtestReader(["a"], ignore, ignore), 1 << 16
        began = time.perf_counter()
        for start in range(0, len(whole), piece):
            reader.feed(whole[start : start + piece])
        reader.finish()
        return time.perf_counter() - began

    line = "a line of its output\n"
    less, more = (
        statistics.median(read(line * (size // len(line))) for _ in range(3))
        for size in (4 << 20, 16 << 20)
    )
    title, ratio = "A test that prints 16 MB, beside 4 MB", more / less
    print(f"{title:<44} {more:8.2f} s {less:8.2f} s {ratio:6.2f}")


FIGURES: dict[str, Callable[[], None]] = {
    "machine": machine,
    "start": start,
    "listing": listing,
    "empty": empty,
    "tiny": tiny,
    "tap": tap,
    "node": node,
    "cargo": cargo,
    "workflows": workflows,
    "library": library,
    "printing": printing,
}


def main() -> None:
    """Print every figure, or those that are named."""
    # A version manager's script in the place of an interpreter would be measured instead.
    os.environ["PATH"] = os.pathsep.join([str(Path(sys.executable).parent), os.environ["PATH"]])
    os.environ.pop("COLUMNS", None)
    print(f"{'':<44} {'wolfbane':>10} {'its own':>10} {'ratio':>6}")
    for name in sys.argv[1:] or FIGURES:
        FIGURES[name]()


if __name__ == "__main__":
    main()
