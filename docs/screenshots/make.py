"""Take the pictures of this folder: real commands on the demo, in a terminal on a virtual screen.

Needs xvfb, xterm, imagemagick and Chromium with its driver
(``apt-get install xvfb xterm imagemagick chromium-driver``).
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import textwrap
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import quote

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent.parent / "tests"))
from reader import Reader  # noqa: E402

WOLFBANE = f"{Path(sys.executable).parent}/wolfbane"
FAILING = "tests/fees/test_fees.py#TwoHullsTest / test_catamaran_in_winter"
BACKGROUND = "#10181c"
LOOK = shlex.split(
    f"-fa 'DejaVu Sans Mono' -fs 9 -tn xterm-256color -bg '{BACKGROUND}' -fg '#d8dee0' -b 12"
)
SHOTS = {
    "demo": "wolfbane run --category billing",
    "list": "wolfbane list --suite gates,rules,ledger,workflows",
    "explain": f"wolfbane explain {shlex.quote(FAILING)} --tag unit --drop tag:slow",
    "failure": f"wolfbane run {shlex.quote(FAILING)}",
    "steps": "wolfbane steps",
    "environments": "wolfbane run --env local,staging --tag smoke --drop suite:quay-log",
    "browsers": "wolfbane run --tag browser --drop name:crane",
    "browser-failure": "wolfbane run page/map --name legend",
    "quarantine": "wolfbane run tests/fees --retries 1",
    "compare": "wolfbane compare previous last",
    "doctor": "wolfbane doctor --probe",
    "contract": "wolfbane run workflows",
    "bridge-check": "wolfbane bridge check ledger/bridge.toml",
    "load": "wolfbane load --profile evening",
    "load-table": "wolfbane show",
}
# The interpreter of this environment would be named with a path of this machine.
PLAIN = {**os.environ, "PATH": f"/usr/bin:/bin:{os.environ['PATH']}"}
LIVE = {"load": 16}
"""Commands that are pictured while they go on, after so many seconds."""


def take(name: str, harbour: Path, display: str) -> None:
    """Run one command in a high terminal of 110 columns, and keep what it filled of it."""
    command = SHOTS[name]
    with tempfile.TemporaryDirectory() as folder:
        done = Path(folder) / "done"
        script = Path(folder) / "script.sh"
        shown = " \\\n    ".join(
            textwrap.wrap(command, 102, break_long_words=False, break_on_hyphens=False)
        )
        script.write_text(
            f"cd {shlex.quote(str(harbour))}\n"
            f'wolfbane() {{ {shlex.quote(WOLFBANE)} "$@"; }}\n'
            f"printf '\\033[1m$ %s\\033[0m\\n' {shlex.quote(shown)}\n"
            f"{command}\ntouch {done}\nprintf '\\033[?25l'\nsleep 60\n"
        )
        terminal = subprocess.Popen(
            ["xterm", *LOOK, "-T", "shot", "-geometry", "110x95+0+0", "-e", "bash", str(script)],
            env={**PLAIN, "DISPLAY": display},
        )
        limit = time.monotonic() + LIVE.get(name, 120)
        while not done.exists() and time.monotonic() < limit:
            time.sleep(0.1)
        time.sleep(0.5)
        target = HERE / f"{name}.png"
        shot = ["import", "-display", display, "-window", "shot", "-trim", "+repage", str(target)]
        subprocess.run(shot, check=True)
        margin = ["mogrify", "-bordercolor", BACKGROUND, "-border", "12", str(target)]
        subprocess.run(margin, check=True)
        terminal.kill()
        terminal.wait()


@contextmanager
def fixed_folder() -> Iterator[Path]:
    """A folder whose name is the same each time: paths are in the pictures."""
    folder = Path(tempfile.gettempdir()) / "quay"
    folder.mkdir(mode=0o700)
    try:
        yield folder
    finally:
        shutil.rmtree(folder)


def picture_history(harbour: Path) -> None:
    """The history of the browser suite and the fees, drawn after a few runs."""
    for _ in range(4):
        subprocess.run(
            [WOLFBANE, "run", "-q", "tests/fees", "page/map"], cwd=harbour, env=PLAIN, check=False
        )
    target = str(HERE / "history.png")
    select = ["tests/fees", "page/map", "--picture", target]
    subprocess.run([WOLFBANE, "history", *select], cwd=harbour, env=PLAIN, check=True)


def open_the_report(harbour: Path) -> None:
    """The report of the demo's run at a desk, and a test's page on a phone by night."""
    told = [WOLFBANE, "open", "--no-browser"]
    done = subprocess.run(told, cwd=harbour, env=PLAIN, check=True, capture_output=True, text=True)
    page = Path(done.stdout.strip())
    with Reader() as reader:
        reader.open(page)
        reader.picture(HERE / "report.png")
        reader.like(dark=True, size=(390, 1180))
        reader.open(page, f"#test={quote('page/map/map.test.mjs#has a legend @phone', safe='')}")
        reader.picture(HERE / "report-test.png")


def run_the_load(harbour: Path) -> None:
    """A load, to its end."""
    subprocess.run(
        [WOLFBANE, "load", "-q", "--profile", "evening"], cwd=harbour, env=PLAIN, check=False
    )


def open_the_load(harbour: Path) -> None:
    """The report of a load, which ends first."""
    run_the_load(harbour)
    told = [WOLFBANE, "open", "--no-browser"]
    done = subprocess.run(told, cwd=harbour, env=PLAIN, check=True, capture_output=True, text=True)
    with Reader() as reader:
        reader.like(size=(1280, 1180))
        reader.open(Path(done.stdout.strip()))
        reader.picture(HERE / "load-report.png")


def break_the_fees(harbour: Path) -> None:
    """Two runs, with a mistake mended and another one made between them."""
    fees = harbour / "harbour" / "fees.py"
    whole = fees.read_text()
    subprocess.run([WOLFBANE, "run", "-q", "tests/fees"], cwd=harbour, env=PLAIN, check=False)
    fees.write_text(
        whole.replace(
            "fee * WINTER_SHARE", "fee * WINTER_SHARE * (1.5 if hulls == 2 else 1)"
        ).replace("fee // 10 * days", "fee // 5 * days")
    )
    subprocess.run([WOLFBANE, "run", "-q", "tests/fees"], cwd=harbour, env=PLAIN, check=False)
    fees.write_text(whole)


def main() -> None:
    """Take every picture, or those that are named."""
    names = sys.argv[1:] or ["report", *SHOTS]
    display = ":87"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x1500x24"])
    try:
        time.sleep(1)
        with fixed_folder() as folder:
            harbour = folder / "harbour"
            demo = [WOLFBANE, "demo", "--into", str(harbour)]
            subprocess.run(demo, check=True, stdout=subprocess.DEVNULL, env=PLAIN)
            if "report" in names:
                open_the_report(harbour)
            for name in [name for name in names if name != "report"]:
                if name == "compare":
                    break_the_fees(harbour)
                if name == "load-table":
                    run_the_load(harbour)
                if name != "environments":
                    take(name, harbour, display)
                    if name == "quarantine":
                        picture_history(harbour)
                    if name == "load":
                        open_the_load(harbour)
                    continue
                with subprocess.Popen(
                    [sys.executable, "booking/service.py", "staging"], cwd=harbour
                ) as staging:
                    take(name, harbour, display)
                    staging.kill()
    finally:
        screen.kill()


if __name__ == "__main__":
    main()
