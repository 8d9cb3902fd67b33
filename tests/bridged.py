"""A ledger with a launcher of its own, for tests of bridges."""

from __future__ import annotations

import shutil
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples" / "bridges"

LAUNCHER = """
    import json, re, sys, time

    names, file, report = [], "", ""
    ALL, group = [], ""
    for line in open(sys.argv[-1], encoding="utf-8"):
        if line.startswith("account"):
            group = line.split('"')[1]
        if line.strip().startswith("entry"):
            ALL.append((group, line.split('"')[1]))
    words = sys.argv[1:]
    while words:
        word = words.pop(0)
        if word == "--only":
            names.append(words.pop(0))
        elif word == "--joined":
            names += words.pop(0).split(";")
        elif word == "--pattern":
            pattern = re.compile(words.pop(0))
            names = [f"{g}.{n}" for g, n in ALL if pattern.search(f"{g}.{n}")] or ["-"]
        elif word == "--list":
            names += open(words.pop(0), encoding="utf-8").read().splitlines()
        elif word == "--to":
            report = words.pop(0)
        else:
            file = word
    print("launched with", json.dumps(names))
    told, bad = [], False
    group = ""
    for line in open(file, encoding="utf-8"):
        if line.startswith("account"):
            group = line.split('"')[1]
        if line.strip().startswith("entry"):
            name, rest = re.match(r'\\s*entry "((?:[^"])*)"(.*)', line).groups()
            whole = f"{group}.{name}"
            if names and whole not in names:
                continue
            if "lost" in rest:
                continue
            failed = "wrong" in rest
            bad |= failed
            told.append({"name": whole, "outcome": "failed" if failed else "passed",
                         "seconds": 0.25, "message": "it does not add up" if failed else ""})
            if "extra" in rest:
                told.append({"name": "surprise", "outcome": "passed"})
    text = "".join(json.dumps(each) + "\\n" for each in told)
    if report != "none":
        open(report, "w", encoding="utf-8").write(text)
    sys.exit(MODE if (MODE := int(open("mode").read())) >= 0 else int(bad))
"""
BRIDGE = """
    about = "the ledger's launcher"

    [find]
    files = ["*.ledger"]

    [find.lines]
    test = '^\\s*entry "(?P<name>[^"]*)"'
    group = '^account "(?P<name>[^"]*)"'
    tag = '@(?:(?P<key>\\w+)=(?P<value>\\w+)|(?P<tag>\\w+))'

    [run]
    command = ["python3", "launcher.py", "{names}", "--to", "{report}", "{file}"]

    [run.names]
    how = "each"
    name = "{group}.{name}"
    option = "--only"

    [read]
    format = "events"
    report = "{scratch}/told.jsonl"
"""
LEDGER = """
    account "berths" @category=billing
      entry "adds up" @smoke
      entry "is closed" wrong
    account "boats"
      # tags: slow
      entry "is $weird [x] 'é' (a|b) *" fine
"""
WEIRD = "boats / is $weird [x] 'é' (a|b) *"
SUITE = """
    [[suite]]
    name = "ledger"
    kind = "bridge"
    paths = ["books"]
    bridge = "ledger.toml"
"""


def write_ledger(folder):
    """A workspace whose only suite is behind a bridge."""
    folder.file("wolfbane.toml", SUITE)
    folder.file("ledger.toml", BRIDGE)
    folder.file("launcher.py", LAUNCHER)
    folder.file("mode", "-1")
    folder.file("books/day.ledger", LEDGER)
    return folder


def place(name):
    return f"books/day.ledger#{name}"


def rewrite(folder, *pairs):
    """The bridge with other words in it."""
    file = folder.path / "ledger.toml"
    text = file.read_text(encoding="utf-8")
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    file.write_text(text, encoding="utf-8")


def example(folder, name, old="", new=""):
    """A copy of an example to work in, with something in its bridge replaced."""
    shutil.copytree(EXAMPLES / name, folder.path / "quay")
    folder.path = folder.path / "quay"
    file = folder.path / "bridge.toml"
    assert old in file.read_text()
    file.write_text(file.read_text().replace(old, new))
    return folder
