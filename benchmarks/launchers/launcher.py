"""A launcher that does what its plan says: it is copied into each drawn workspace and run there.

It reads ``plan.json``: its tests by file, and how it takes names, reports and behaves.
"""

import json
import os
import re
import signal
import sys
import time

PLAN = json.load(open("plan.json", encoding="utf-8"))
RED, PLAIN = "\x1b[31m", "\x1b[0m"


def chosen(arguments):
    """The names and the files of a call, and the place of its report."""
    names, files, report = None, [], ""
    texts = list(arguments)
    while texts:
        word = texts.pop(0)
        if word == "--only":
            names = [*(names or []), texts.pop(0)]
        elif word == "--joined":
            names = texts.pop(0).split(";;")
        elif word == "--pattern":
            pattern = re.compile(texts.pop(0))
            names = [n for test in PLAN["tests"] if pattern.search(n := called(test))] or ["-"]
        elif word == "--list":
            names = open(texts.pop(0), encoding="utf-8").read().splitlines()
        elif word == "--to":
            report = texts.pop(0)
        elif os.path.isdir(word):
            files += [path for path in PLAN["files"] if os.path.dirname(path) == word]
        else:
            files.append(word)
    return names, files, report


def called(test):
    """The launcher's own name for a test."""
    group = f"{test['group']}." if test["group"] else ""
    fields = {"name": group + test["name"], "stem": os.path.basename(test["file"])[:-5]}
    return PLAN["call"].format(**fields)


def reported(test):
    """The name of a test in the report."""
    group = f"{test['group']}." if test["group"] else ""
    return group + test["name"]


class Report:
    """Writes results in the format of the plan, at once or at the end."""

    def __init__(self, folder):
        self.out = open(folder, PLAN["mode"], encoding="utf-8") if folder else sys.stdout
        self.held = []
        self.done = []
        self.section = ""

    def say(self, text):
        if PLAN["late"]:
            self.held.append(text)
        else:
            self.out.write(text)
            self.out.flush()

    def begin(self, test):
        if PLAN["began"]:
            self.say(f"RUN {reported(test)}\n")

    def result(self, test, word):
        self.done.append((test, word))
        if PLAN["format"] == "events":
            event = {"name": reported(test), "outcome": word}
            if PLAN["tells_file"]:
                event["file"] = test["file"]
            self.say(json.dumps(event) + "\n")
        elif PLAN["format"] == "lines":
            if PLAN["section"] == "before" and test["file"] != self.section:
                self.section = test["file"]
                self.say(f"== {test['file']}\n")
            mark = {"passed": "fine", "failed": "BAD", "skipped": "left"}[word]
            mark = f"{RED}{mark}{PLAIN}" if PLAN["colours"] else mark
            where = f" at {test['file']}" if PLAN["tells_file"] else ""
            self.say(f"  {mark}: {reported(test)}{where}\n")
            if word == "failed":
                self.say("    because it is low\n")

    def end_of(self, path):
        if PLAN["section"] == "after":
            self.say(f"-- {path}\n")

    def close(self):
        self.out.write("".join(self.held))
        if PLAN["format"] == "tap":
            self.out.write("TAP version 14\n")
            for number, (test, word) in enumerate(self.done, 1):
                skip = " # SKIP no tide" if word == "skipped" else ""
                good = "not ok" if word == "failed" else "ok"
                self.out.write(f"{good} {number} - {reported(test)}{skip}\n")
            self.out.write(f"1..{len(self.done)}\n")
        if PLAN["format"] == "xunit":
            self.out.write("<testsuite>")
            for test, word in self.done:
                inner = {"failed": "<failure/>", "skipped": "<skipped/>"}.get(word, "")
                file = f' file="{test["file"]}"' if PLAN["tells_file"] else ""
                self.out.write(f'<testcase name="{reported(test)}"{file}>{inner}</testcase>')
            self.out.write("</testsuite>")
        self.out.flush()


def main():
    names, files, folder = chosen(sys.argv[1:])
    report = Report(folder)
    bad, current = False, None
    for test in PLAN["tests"]:
        if files and test["file"] not in files:
            continue
        if names is not None and called(test) not in names:
            continue
        if current not in (None, test["file"]):
            report.end_of(current)
        current = test["file"]
        with open("account.jsonl", "a", encoding="utf-8") as account:
            account.write(json.dumps([test["file"], reported(test)]) + "\n")
        report.begin(test)
        if test["does"] == "crash":
            os.kill(os.getpid(), signal.SIGKILL)
        if test["does"] == "hang":
            time.sleep(600)
        bad |= test["does"] == "failed"
        report.result(test, test["does"])
    if current is not None:
        report.end_of(current)
    report.close()
    sys.exit(PLAN["failed"] if bad else 0)


main()
