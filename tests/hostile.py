"""A workspace from a stranger: each program and file in it that could run leaves a mark."""

from __future__ import annotations

import os
import subprocess

PROGRAMS = ("python", "python3", "node", "git", "cargo", "chromium", "chromedriver")
SEQUENCES = "\x1b]52;c;Z2F1Z2U=\x07\x1b[2J\x1b]0;title\x07\u202e\x9b2J"
SETTINGS = """
[workspace]
name = "Quay"
env = "local"
[[suite]]
name = "py"
kind = "python"
paths = ["tests"]
python = ".venv/bin/python"
browsers = ["own"]
build = ["{mark}build"]
[[suite]]
name = "js"
kind = "node"
paths = ["js"]
[[suite]]
name = "crate"
kind = "cargo"
paths = ["crate"]
[[suite]]
name = "taps"
kind = "tap"
paths = ["t"]
[[suite]]
name = "rules"
kind = "scenario"
paths = ["rules"]
[[suite]]
name = "books"
kind = "bridge"
paths = ["books"]
bridge = "books/bridge.toml"
[param.berth]
[param.token]
secret = true
[env.local]
berth = {{ command = "{mark}value" }}
token = {{ shell = "HOME" }}
version = {{ command = ["sh", "-c", "{mark}version"] }}
[mask]
forms = ["sh", "-c", "{mark}forms"]
[browser.own]
engine = "chromium"
binary = "{root}/bin/chromium"
driver = "{root}/bin/chromedriver"
[cluster]
address = "{cluster}"
"""
BRIDGE = """
about = "books"
[find]
files = ["*.book"]
[find.listing]
command = ["sh", "-c", "{mark}listing"]
format = "names"
[run]
command = ["sh", "-c", "{mark}launcher", "{{names}}"]
before = ["{mark}before"]
per = "test"
[run.names]
how = "each"
option = "-x"
[read]
format = "exit"
"""
GIT = {
    "core.fsmonitor": "{mark}fsmonitor",
    "core.hooksPath": "{root}/bin/hooks",
    "core.pager": "{mark}pager",
    "filter.own.clean": "{mark}clean; cat",
    "filter.own.smudge": "{mark}smudge; cat",
    "diff.own.textconv": "{mark}textconv; cat",
    "filter.a=b.clean": "{mark}clean-2; cat",
    "diff.external": "{mark}extdiff",
    "log.showSignature": "true",
    "gpg.program": "{root}/bin/git",
}


def hostile(folder, marks, cluster="tcp://127.0.0.1:9"):
    """Fill a folder. Everything that starts leaves a file in ``marks``."""
    marks.mkdir()
    root, mark = folder.path, f"touch {marks}/"
    values = {"root": root, "mark": mark, "cluster": cluster}
    for path in (".venv/bin", "bin", "node_modules/.bin"):
        for program in PROGRAMS:
            name = f"{path}/{program}"
            folder.file(name, f"#!/bin/sh\n{mark}{name.replace('/', '-')}\n", 0o755)
    for hook in ("post-checkout", "post-index-change", "reference-transaction"):
        folder.file(f"bin/hooks/{hook}", f"#!/bin/sh\n{mark}{hook}\n", 0o755)
    folder.file(".venv/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.0\n")
    python = "import os\nos.system('{}')\n"
    for module in ("click", "json", "msgspec", "yaml", "sitecustomize", "tests/__init__"):
        folder.file(f"{module}.py", python.format(f"{mark}{module.replace('/', '-')}"))
    folder.file("tests/test_quay.py", python.format(f"{mark}test") + "def test_x():\n    pass\n")
    folder.file("rules/steps/quay.py", python.format(f"{mark}steps"))
    folder.file("rules/quay.feature", "Feature: q\n  Scenario: s\n    Given x\n")
    script = f"import {{ execSync }} from 'child_process';\nexecSync('{mark}js');\n"
    folder.file(
        "js/quay.test.mjs", f"{script}import test from 'node:test';\ntest('x', () => {{}});\n"
    )
    folder.file(
        "t/quay.t", f"#!/usr/bin/perl\nBEGIN {{ system('{mark}tap') }}\nprint \"1..0\";\n", 0o755
    )
    crate = '[package]\nname = "crate"\nversion = "0.1.0"\nedition = "2021"\n'
    folder.file("crate/Cargo.toml", crate)
    folder.file("crate/src/lib.rs", "#[test]\nfn t() {}\n")
    folder.file("crate/.cargo/config.toml", f'[build]\nrustc = "{root}/bin/python"\n')
    folder.file("rust-toolchain.toml", f'[toolchain]\npath = "{root}/bin"\n')
    folder.file("books/quay.book", "test x\n")
    folder.file("books/bridge.toml", BRIDGE.format(**values))
    folder.file("wolfbane.toml", SETTINGS.format(**values))
    folder.file(".gitattributes", "*.py filter=own diff=own\n*.t filter=a=b\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-qm", "A quay")
    for name, value in GIT.items():
        subprocess.run(
            ["git", "-C", root, "config", name, value.format(**values)],
            check=True,
            env={"PATH": os.environ["PATH"]},
        )
    for name in ("tests/test_quay.py", "t/quay.t"):
        test = root / name
        test.write_text(test.read_text() + "\n")
    return folder
