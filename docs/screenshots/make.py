"""Take the pictures of this folder: real commands on the demo, in a terminal on a virtual screen.

Needs xvfb, xterm, imagemagick and Chromium with its driver
(``apt-get install xvfb xterm imagemagick chromium-driver``).
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.parse import quote

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent.parent / "tests"))
from reader import Reader  # noqa: E402

WOLFBANE = f"{Path(sys.executable).parent}/wolfbane"
FAILING = "tests/fees/test_fees.py#TwoHullsTest / test_catamaran_in_winter"
LOOK = shlex.split(
    "-fa 'DejaVu Sans Mono' -fs 9 -tn xterm-256color -bg '#10181c' -fg '#d8dee0' -b 12"
)
SHOTS = {
    "demo": (56, "wolfbane run"),
    "list": (58, "wolfbane list --drop 'suite:tides or suite:fees or tag:browser'"),
    "explain": (20, f"wolfbane explain {shlex.quote(FAILING)} --tag unit --drop tag:slow"),
    "failure": (38, f"wolfbane run {shlex.quote(FAILING)}"),
    "steps": (20, "wolfbane steps"),
    "environments": (60, "wolfbane run --env local,staging --tag smoke --drop suite:quay-log"),
    "browsers": (38, "wolfbane run --tag browser"),
    "browser-failure": (64, "wolfbane run page/map --name legend"),
    "quarantine": (34, "wolfbane run tests/fees --retries 1"),
    "compare": (22, "wolfbane compare previous last"),
    "doctor": (33, "wolfbane doctor"),
    "contract": (44, "wolfbane run workflows"),
    "bridge-check": (16, "wolfbane bridge check ledger/bridge.toml"),
    "load": (44, "wolfbane load --profile evening"),
    "load-table": (70, "wolfbane show"),
}
LIVE = {"load": 16}
"""Commands that are pictured while they go on, after so many seconds."""


def take(name: str, rows: int, command: str, harbour: Path, display: str) -> None:
    """Run one command in a terminal of 100 columns and keep its picture."""
    with tempfile.TemporaryDirectory() as place:
        done = Path(place) / "done"
        script = Path(place) / "script.sh"
        shown = command.partition(";")[0]
        script.write_text(
            f"cd {shlex.quote(str(harbour))}\n"
            f'wolfbane() {{ {shlex.quote(WOLFBANE)} "$@"; }}\n'
            f"printf '\\033[1m$ %s\\033[0m\\n' {shlex.quote(shown)}\n"
            f"{command}\ntouch {done}\nprintf '\\033[?25l'\nsleep 60\n"
        )
        terminal = subprocess.Popen(
            ["xterm", *LOOK, "-geometry", f"100x{rows}+0+0", "-e", "bash", str(script)],
            env={**os.environ, "DISPLAY": display},
        )
        limit = time.monotonic() + LIVE.get(name, 120)
        while not done.exists() and time.monotonic() < limit:
            time.sleep(0.1)
        time.sleep(0.5)
        target = HERE / f"{name}.png"
        subprocess.run(
            ["import", "-display", display, "-window", "root", "-trim", "+repage", str(target)],
            check=True,
        )
        terminal.kill()
        terminal.wait()


def picture_history(harbour: Path) -> None:
    """The history of the browser suite and the fees, drawn after a few runs."""
    for _ in range(4):
        subprocess.run([WOLFBANE, "run", "-q", "tests/fees", "page/map"], cwd=harbour, check=False)
    target = str(HERE / "history.png")
    select = ["tests/fees", "page/map", "--picture", target]
    subprocess.run([WOLFBANE, "history", *select], cwd=harbour, check=True)


def open_the_report(harbour: Path) -> None:
    """The report of the demo's run at a desk, and a test's page on a phone by night."""
    told = [WOLFBANE, "open", "--no-browser"]
    done = subprocess.run(told, cwd=harbour, check=True, capture_output=True, text=True)
    page = Path(done.stdout.strip())
    with Reader() as reader:
        reader.open(page)
        reader.picture(HERE / "report.png")
        reader.like(dark=True, size=(390, 1180))
        reader.open(page, f"#test={quote('page/map/map.test.mjs#has a legend @phone', safe='')}")
        reader.picture(HERE / "report-test.png")


def run_the_load(harbour: Path) -> None:
    """A load, to its end."""
    subprocess.run([WOLFBANE, "load", "-q", "--profile", "evening"], cwd=harbour, check=False)


def open_the_load(harbour: Path) -> None:
    """The report of a load, which ends first."""
    run_the_load(harbour)
    told = [WOLFBANE, "open", "--no-browser"]
    done = subprocess.run(told, cwd=harbour, check=True, capture_output=True, text=True)
    with Reader() as reader:
        reader.like(size=(1280, 1180))
        reader.open(Path(done.stdout.strip()))
        reader.picture(HERE / "load-report.png")


def break_the_fees(harbour: Path) -> None:
    """Two runs, with a mistake mended and another one made between them."""
    fees = harbour / "harbour" / "fees.py"
    whole = fees.read_text()
    subprocess.run([WOLFBANE, "run", "-q", "tests/fees"], cwd=harbour, check=False)
    fees.write_text(
        whole.replace("fee * WINTER_SHARE", "fee * WINTER_SHARE * (1.5 if hulls == 2 else 1)")
        .replace("fee // 10 * days", "fee // 5 * days")
    )  # fmt: skip
    subprocess.run([WOLFBANE, "run", "-q", "tests/fees"], cwd=harbour, check=False)
    fees.write_text(whole)


def main() -> None:
    """Take every picture, or those that are named."""
    names = sys.argv[1:] or ["report", *SHOTS]
    display = ":87"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x1100x24"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as place:
            harbour = Path(place) / "harbour"
            subprocess.run(
                [WOLFBANE, "demo", "--into", str(harbour)], check=True, stdout=subprocess.DEVNULL
            )
            if "report" in names:
                open_the_report(harbour)
            for name in [name for name in names if name != "report"]:
                if name == "compare":
                    break_the_fees(harbour)
                if name == "load-table":
                    run_the_load(harbour)
                if name != "environments":
                    take(name, *SHOTS[name], harbour, display)
                    if name == "quarantine":
                        picture_history(harbour)
                    if name == "load":
                        open_the_load(harbour)
                    continue
                with subprocess.Popen(
                    [sys.executable, "booking/service.py", "staging"], cwd=harbour
                ) as staging:
                    take(name, *SHOTS[name], harbour, display)
                    staging.kill()
    finally:
        screen.kill()


if __name__ == "__main__":
    main()
