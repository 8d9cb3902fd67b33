"""Every command line in the README, the docs and ``--help``, run on the demo."""

from __future__ import annotations

import re
import shlex
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from itertools import pairwise
from pathlib import Path

import click
import pytest

from conftest import Folder
from wolfbane.cli import root

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
LINE = re.compile(r"^(?: {2,}|)(?:\$ )?(wolfbane [^#\n]*?)(?:  +\S.*|\s+#.*)?$")
SHAPES = re.compile(r"\[PATH|\[SELECTION|\[NAME\]|\bNAME\b|\\$")
"""Lines that show a shape, or that go on below."""

SLOW = "not (suite:tides or suite:fees)"
"""Suites of the demo that are left out here: they are run whole in a test of their own."""
LEARN = (
    "wolfbane bridge learn bridges/quay.toml --all 'ruby quay.rb' "
    "--one 'ruby quay.rb --check \"lamp is lit\"'"
)
LEARN_LEDGER = (
    "wolfbane bridge learn bridges/ledger.toml --all './check' --one './check --only berths.fits'"
)
LEARN_GAUGE = "wolfbane bridge learn --all ./gauge --one './gauge lamp' --list './gauge --list'"
ELSEWHERE = {
    "wolfbane demo": "it is tested with the whole of its output",
    "wolfbane demo --into harbour": "the same",
    "wolfbane init": "the demo has its settings",
    "wolfbane compose": "it asks",
    "wolfbane run --visible --pace 0.5s --keep-open --browser chromium": "it needs a screen",
    "wolfbane bridge learn": "it asks",
    LEARN_GAUGE: "the demo has no such launcher",
    LEARN: "it is tested with this launcher",
    LEARN_LEDGER: "the demo has no such launcher",
    "wolfbane bridge learn --answers answers.toml --yes": "it needs answers",
    "wolfbane bridge new bridges/ledger.toml": "it asks",
    "wolfbane import": "it needs a file",
    "wolfbane join": "it needs the records of shares",
    "wolfbane explain": "it needs a test",
    "wolfbane join out --report html=report.html": "it needs the records of shares",
    "wolfbane join out --report html=report.html --report xunit=results.xml": "the same",
    "wolfbane run --on tcp://quay-1.example:8786": "it needs a cluster",
    "wolfbane load --users 200 --for 1m --on tcp://quay-1.example:8786": "it needs a cluster",
    "wolfbane machines --on tcp://quay-1.example:8786": "the same",
    "wolfbane machines --as json": "the same",
    "wolfbane open": "it opens a browser",
    "wolfbane browsers --open": "each browser takes seconds",
    "wolfbane completion fish | source": "it is a line for a shell",
    "wolfbane run .": "it is a plain run there",
    "wolfbane run -w services/quay": "the demo has no workspace below",
    "wolfbane run --suite services/quay/unit": "the demo has no workspace below",
    "wolfbane run --mail-to "
    "crew@harbour.example --mail-when changed": "no mail server is configured",
    "wolfbane run --env local --mail-to crew@harbour.example --mail-when changed": "nor here",
}
"""Lines that are not run here, and why."""
IN_THE_DEMO = {
    "bridges/ledger.toml": "ledger/bridge.toml",
    "--set house=north": "--set machine=crane-2",
    "api.token=@token.txt": "token=@booking/token.txt",
    "origin/main": "HEAD",
    "$NUMBER": "3",
}
"""What a page calls by the names of its own example, and what the demo has for it."""
SHORTER = {
    r"--users (10|50)": "--users 2",
    r"--ramp \w+": "--ramp 100ms",
    r"1s\.\.3s": "10ms..30ms",
    r"< 300ms": "< 300s",
}
"""Times of loads that are shorter here, and limits that a slow machine meets, too."""
LONG_ENOUGH = ["700ms", "5s", "30s"]
"""Lengths of loads: the first one in which this machine comes to what is expected will do."""
DURATION = re.compile(r'(?<=duration = ")\w+(?=")')
CODES = {
    3: ["run --tag smok", "again --unfinished"],
    0: [
        "run --env local,staging --tag smoke",
        "run --env staging --at deployed",
        "again*--print-command",
    ],
    2: ["run --env staging --version-must-match"],
    # The demo has honest failures, so that there is something to see.
    1: [
        "run",
        "run tests/fees*",
        "run --status failed",
        "run --jobs*",
        "run --retries*",
        "run --report*",
        "run --order*",
        "run --quarantine*",
        "run --env*",
        "run --set*",
        "run --preset nightly",
        "run --preset nightly --jobs*",
        "run --changed*",
        "run --pick 'changed*",
        "run tests/fees --pick*",
        "load",
        "load --users*",
        "again*",
        "load --at*",
        "run --share 1/2*",
        "load --profile*",
        "load --env*",
        "load --limit*",
        "load --report*",
        "load --rate*",
        "run --everything*",
        "run --no-build",
        "run --no-focus*",
        "run --suite workflows*",
        "run --pick 'category:billing and not tag:slow'",
    ],
}


def commands():
    """Each command line once, with the page that it is first on."""
    result = {}
    for page in PAGES:
        fenced = False
        text = re.sub(r" \\\n +", " ", page.read_text(encoding="utf-8"))
        for line in text.splitlines():
            fenced ^= line.startswith("```")
            whole = LINE.match(line)
            if whole and (fenced or line.startswith("  ")):
                result.setdefault(whole[1].strip(), page.name)
            for span in re.findall(r"`(wolfbane [^`]+)`", line):
                result.setdefault(span, page.name)
    return {line: page for line, page in result.items() if not SHAPES.search(line)}


@pytest.fixture(scope="module")
def harbour(tmp_path_factory):
    """The demo without its browsers, with what the examples mention, and staging up."""
    folder = Folder(tmp_path_factory.mktemp("examples") / "harbour")
    shutil.copytree(ROOT / "src/wolfbane/demo/harbour", folder.path)
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = listening.getsockname()[1]
    settings = (folder.path / "wolfbane.toml").read_text(encoding="utf-8")
    settings = settings.replace("8731", str(port)).replace(
        'leave_out = "tag:wip" ', f'jobs = 1\nleave_out = "tag:wip or {SLOW}" '
    )
    folder.file("wolfbane.toml", settings)
    folder.file("smoke.toml", 'suites = ["tides", "fees"]\ntags = "smoke"\nthen = "show"\n')
    folder.git("init", "-q")
    for tag in ("v1.3.0", "v1.4.0"):
        folder.git("add", ".")
        folder.git("commit", "-q", "--allow-empty", "-m", tag)
        folder.git("tag", tag)
    environment = {**folder.environment(), "XDG_CONFIG_HOME": str(folder.path / ".config")}
    staging = subprocess.Popen(
        [sys.executable, "booking/service.py", "staging", "--port", str(port)],
        cwd=folder.path,
        env={**environment, "BOOKING_TOKEN": "let-me-moor-here"},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    _wait_for(f"http://127.0.0.1:{port}/health")
    folder.call("list", "--everything")
    for tag in ("v1.3.0", "v1.4.0"):
        folder.call("run", "tests", "--suite", "tides", "--at", tag)
    for environment_name in ("staging", "staging", "local", "local"):
        folder.call("run", "tests", "--suite", "tides,fees", "--env", environment_name)
    for name in ("build/results.xml", "nightly/quay.xml", "main.json", "nightly.xml"):
        form = {"xml": "xunit", "json": "json"}[name.rpartition(".")[2]]
        (folder.path / name).parent.mkdir(exist_ok=True)
        assert folder.call("report", "--as", form, "--to", name).code == 0
    folder.call("run", "tests", "--suite", "tides,fees")
    folder.call("preset", "save", "nightly", "--", "--suite", "tides,fees", "--env", "local")
    folder.call("quarantine", "add", "--name", "sundays", "--because", "nobody works then")
    with (folder.path / "harbour/fees.py").open("a") as source:
        source.write("# a change that is not committed\n")
    shutil.copytree(folder.path / ".wolfbane", folder.path / ".kept")
    folder.settings = (folder.path / "wolfbane.toml").read_bytes()
    folder.quarantine = (folder.path / "quarantine.toml").read_bytes()
    folder.variables = {"XDG_CONFIG_HOME": environment["XDG_CONFIG_HOME"], "STAGING_TOKEN": "x"}
    yield folder
    staging.kill()
    staging.wait()


def _wait_for(url):
    for _ in range(200):
        try:
            urllib.request.urlopen(url, timeout=5).close()
        except OSError:
            time.sleep(0.05)
        else:
            return
    raise AssertionError(f"{url} does not answer")


def _code(line):
    """The exit code that is expected of a command line."""
    message = line.removeprefix("wolfbane ")
    for code, patterns in CODES.items():
        for pattern in patterns:
            if re.fullmatch(re.escape(pattern).replace(r"\*", ".*"), message):
                return code
    return 0


@pytest.mark.parametrize("line", [line for line in commands() if line not in ELSEWHERE])
def test_an_example_does_what_it_says(harbour, line):
    shutil.rmtree(harbour.path / ".wolfbane")
    shutil.copytree(harbour.path / ".kept", harbour.path / ".wolfbane")
    (harbour.path / "wolfbane.toml").write_bytes(harbour.settings)
    (harbour.path / "quarantine.toml").write_bytes(harbour.quarantine)
    shown = line
    for there, here in IN_THE_DEMO.items():
        shown = shown.replace(there, here)
    if " load" in line:
        shown += " --seed 7 -j 1 --contract 100%"  # what is random is the same each time
    for long, short in SHORTER.items() if " load" in line else ():
        shown = re.sub(long, short, shown)
    shown, dashes, passed_on = shown.partition(" -- ")
    if re.search("quarantine add|workflow|quay/| load| page |quay-log|tide-gauge", line):
        shown += " --everything --drop tag:wip"  # their suites are left out here
    if "preset save" in line and " save " in shown:
        shown = shown.replace(" save ", " save --replace ")
    if " --at " in line:
        shown += " --suite workflows" if " load" in line else " --suite tides"
    if "browser" in line and " run " in line:
        shown += " --dry-run --everything"  # they are run in tests of their own
    if " watch " in shown or shown.endswith(" watch"):
        shown = shown.replace(" watch", " run") + " --dry-run"  # running until it is ended
    arguments = shlex.split(shown + dashes + passed_on)[1:]
    if arguments[0] == "import":
        arguments = [file for word in arguments for file in _expanded(harbour.path, word)]
    expected = 0 if "--dry-run" in shown else _code(line)
    if "load" in arguments:
        done = _loaded(harbour, arguments, expected)
    else:
        done = harbour.call(*arguments, **harbour.variables)
    assert done.code == expected, f"{shown}\n{done.out}{done.err}"
    assert "Traceback" not in done.err
    assert done.out or done.err or "--to" in line


def _loaded(harbour, message, expected):
    """A load that is long enough for this machine."""
    settings = harbour.settings.decode()
    for length in LONG_ENOUGH:
        (harbour.path / "wolfbane.toml").write_text(DURATION.sub(length, settings))
        now = [length if before == "--for" else word for before, word in pairwise(["", *message])]
        done = harbour.call(*now, **harbour.variables)
        if done.code == expected:
            break
    return done


def _expanded(folder, word):
    """The files that a shell would put in the place of a word."""
    return [str(path.relative_to(folder)) for path in folder.glob(word)] if "*" in word else [word]


def test_what_the_program_writes_into_the_docs_is_there():
    sys.path.insert(0, str(ROOT / "docs"))
    try:
        from commands import page, with_fields
    finally:
        sys.path.pop(0)
    assert (ROOT / "docs/commands.md").read_text(encoding="utf-8") == page()
    text = (ROOT / "docs/selection.md").read_text(encoding="utf-8")
    assert text == with_fields(text)


def _options(command):
    """All options of a command that are shown, and of those inside of it."""
    if isinstance(command, click.Group):
        for name in command.list_commands(click.Context(command)):
            yield from _options(command.get_command(click.Context(command), name))
    for parameter in command.params:
        if isinstance(parameter, click.Option) and not parameter.hidden:
            yield parameter


def test_every_option_has_an_example():
    arguments = {word.partition("=")[0] for line in commands() for word in shlex.split(line)}
    arguments |= {word[:2] for word in arguments if re.match("-[a-z]", word)}  # -j4
    without = {
        option.opts[0]
        for option in _options(root)
        if not arguments.intersection(option.opts + option.secondary_opts)
    }
    assert without == set()


def test_lines_that_are_not_run_are_in_the_pages():
    assert set(ELSEWHERE) <= set(commands())
