"""Folders with tests and launchers that nobody described, for learning bridges.

Each has its files, the command for all tests and that for one, and what is found.
"""

from __future__ import annotations

from typing import NamedTuple


class Launcher(NamedTuple):
    """``tests`` are the addresses that the bridge finds; ``programs`` have to be here."""

    programs: tuple[str, ...]
    files: dict[str, str]
    all_tests: str
    one: str
    tests: tuple[str, ...]
    prepare: tuple[str, ...] = ()


CLASSES = Launcher(
    ("python3",),
    {
        "tests/__init__.py": "",
        "tests/test_tides.py": """
            import unittest
            class Tide(unittest.TestCase):
                def test_high(self):
                    self.assertEqual(2 + 2, 4)
                def test_low(self):
                    self.assertEqual(1, 2)
            class Moon(unittest.TestCase):
                def test_new(self):
                    pass
                @unittest.skip("no moon")
                def test_full(self):
                    pass
        """,
        "tests/test_fees.py": """
            import unittest
            class Fee(unittest.TestCase):
                def test_high(self):
                    pass
        """,
    },
    "python3 -m unittest -v",
    "python3 -m unittest -v tests.test_tides.Tide.test_high",
    (
        "tests/test_fees.py#Fee / test_high", "tests/test_tides.py#Moon / test_full",
        "tests/test_tides.py#Moon / test_new", "tests/test_tides.py#Tide / test_high",
        "tests/test_tides.py#Tide / test_low",
    ),
)  # fmt: skip
NODE = Launcher(
    ("node",),
    {
        "tests/berths.test.js": """
            const test = require('node:test');
            test('books a berth', () => {});
            test('refuses (too long)', () => { throw new Error('too long'); });
            test('is [free] at noon', { skip: true }, () => {});
        """,
        "tests/boats.test.js": """
            const { test } = require('node:test');
            test('has a name', () => {});
            test('has a length', () => {});
        """,
    },
    "node --test tests/",
    "node --test --test-name-pattern '^books a berth$' tests/berths.test.js",
    (
        "tests/berths.test.js#books a berth", "tests/berths.test.js#is [free] at noon",
        "tests/berths.test.js#refuses (too long)", "tests/boats.test.js#has a length",
        "tests/boats.test.js#has a name",
    ),
)  # fmt: skip
PERL = Launcher(
    ("prove",),
    {
        "t/tides.t": 'use Test::More tests => 1;\nok(1, "one");\n',
        "t/fees.t": 'use Test::More tests => 1;\nok(0, "two");\n',
    },
    "prove -v t",
    "prove -v t/tides.t",
    ("t/fees.t", "t/tides.t"),
)
TCL = Launcher(
    ("tclsh",),
    {
        "tests/all.tcl": """
            package require tcltest
            tcltest::configure -testdir [file dirname [file normalize [info script]]]
            eval tcltest::configure $argv
            tcltest::runAllTests
        """,
        "tests/tides.test": """
            package require tcltest
            namespace import ::tcltest::*
            eval configure $argv
            test tides-1.1 {high water} -body { expr {2+2} } -result 4
            test tides-1.2 {low water} -body { expr {2+2} } -result 5
            cleanupTests
        """,
        "tests/fees.test": """
            package require tcltest
            namespace import ::tcltest::*
            eval configure $argv
            test fees-1.1 {a fee} -body { expr 1 } -result 1
            cleanupTests
        """,
    },
    "tclsh tests/all.tcl -verbose pe",
    "tclsh tests/all.tcl -verbose pe -match tides-1.1",
    ("tests/fees.test#fees-1.1", "tests/tides.test#tides-1.1", "tests/tides.test#tides-1.2"),
)
GO = Launcher(
    ("go",),
    {
        "go.mod": "module harbour.example/tides\n\ngo 1.19\n",
        "tides_test.go": """
            package tides

            import "testing"

            func TestHigh(t *testing.T) {}

            func TestLow(t *testing.T) {
            \tt.Error("too low")
            }

            func TestNeap(t *testing.T) {
            \tt.Run("spring", func(t *testing.T) {})
            }
        """,
    },
    "go test -v ./...",
    "go test -v -run '^TestHigh$' ./...",
    ("tides_test.go#TestHigh", "tides_test.go#TestLow", "tides_test.go#TestNeap"),
)
JAVA = Launcher(
    ("java", "javac"),
    {
        "src/Check.java": """
            import java.lang.annotation.*;
            @Retention(RetentionPolicy.RUNTIME) public @interface Check {}
        """,
        "src/Owner.java": "public @interface Owner { String value(); }\n",
        "src/Tides.java": """
            public class Tides {
                @Owner("quay")
                @Check public void high() {}
                @Check public void low() { throw new AssertionError("too low"); }
            }
        """,
        "src/Berths.java": """
            public class Berths {
                @Check public void fits() {}
            }
        """,
        "src/Main.java": """
            import java.io.*;
            import java.lang.reflect.*;
            public class Main {
                public static void main(String[] words) throws Exception {
                    StringBuilder told = new StringBuilder("<testsuite>");
                    boolean bad = false;
                    for (String name : new String[] {"Tides", "Berths"}) {
                        for (Method check : Class.forName(name).getDeclaredMethods()) {
                            String whole = name + "." + check.getName();
                            if (check.getAnnotation(Check.class) == null) continue;
                            if (words.length > 1 && !words[1].matches("--check=.*" )) continue;
                            if (words.length > 1 && !java.util.Arrays.asList(words)
                                .contains("--check=" + whole)) continue;
                            told.append("<testcase classname='" + name + "' name='"
                                + check.getName() + "'>");
                            try {
                                check.invoke(Class.forName(name).getConstructor().newInstance());
                            } catch (InvocationTargetException error) {
                                bad = true;
                                told.append("<failure>" + error.getCause() + "</failure>");
                            }
                            told.append("</testcase>");
                        }
                    }
                    try (Writer out = new FileWriter(words[0])) {
                        out.write(told.append("</testsuite>").toString());
                    }
                    System.exit(bad ? 3 : 0);
                }
            }
        """,
    },
    "java -cp classes Main report.xml",
    "java -cp classes Main report.xml --check=Tides.high",
    ("src/Berths.java#Berths / fits", "src/Tides.java#Tides / high", "src/Tides.java#Tides / low"),
    ("javac", "-d", "classes", "src/Check.java", "src/Owner.java", "src/Tides.java",
     "src/Berths.java", "src/Main.java"),
)  # fmt: skip
RUBY = Launcher(
    ("ruby",),
    {
        "quay.rb": """
            CHECKS = []
            def check(name, &body) CHECKS << [name, body] end
            Dir["checks/*.rb"].sort.each { |file| load file }
            only = ARGV.each_cons(2).select { |word, _| word == "--check" }.map(&:last)
            bad = 0
            CHECKS.each do |name, body|
              next unless only.empty? || only.include?(name)
              begin
                body.call
                puts "* #{name}: good"
              rescue => error
                bad += 1
                puts "* #{name}: BROKEN #{error.message}"
              end
            end
            exit(bad.zero? ? 0 : 2)
        """,
        "checks/pumps.rb": """
            check "pump one starts" do
            end
            check "pump two starts" do
              raise "no oil"
            end
        """,
        "checks/lamps.rb": 'check "lamp is lit" do\nend\n',
    },
    "ruby quay.rb",
    "ruby quay.rb --check 'lamp is lit'",
    (
        "checks/lamps.rb#lamp is lit", "checks/pumps.rb#pump one starts",
        "checks/pumps.rb#pump two starts",
    ),
)  # fmt: skip
SHELL = Launcher(
    ("sh",),
    {
        "checks/depth.sh": "echo depth\n",
        "checks/wind.sh": "echo wind\nexit 1\n",
        "run-one.sh": 'sh "$1"\n',
        "run-all.sh": "bad=0\nfor f in checks/*.sh; do sh $f || bad=1; done\nexit $bad\n",
    },
    "sh run-all.sh",
    "sh run-one.sh checks/depth.sh",
    ("checks/depth.sh", "checks/wind.sh"),
)
AWKWARD = Launcher(
    ("python3",),
    {
        "launcher.py": """
            import glob, json, sys
            only = [word[5:] for word in sys.argv if word.startswith("only=")]
            told = []
            for path in sorted(glob.glob("books/*.book")):
                for line in open(path):
                    if line.startswith("entry "):
                        name = line[6:].strip().rstrip("!")
                        whole = path[6:-5] + ": " + name
                        if only and whole not in only:
                            continue
                        word = "error" if line.strip().endswith("!") else "ok"
                        print(f"\\r\\x1b[32m{len(told) + 1}\\x1b[0m {whole} => {word}", end="")
                        told.append(word)
            print()
            open("reports/today.log", "w").write(" ".join(told))
        """,
        "reports/yesterday.xml": '<testsuite><testcase name="old one"/></testsuite>',
        "books/day.book": "entry adds up [spring]\nentry adds up (autumn)!\nentry is closed\n",
        "books/eve.book": "entry is closed\nentry adds up [spring]\n",
        "books/sea.book": "entry is closed\n",
    },
    "python3 launcher.py",
    "python3 launcher.py 'only=day: adds up [spring]'",
    (
        "books/day.book#adds up (autumn)", "books/day.book#adds up [spring]",
        "books/day.book#is closed", "books/eve.book#adds up [spring]", "books/eve.book#is closed",
        "books/sea.book#is closed",
    ),
)  # fmt: skip
EVENTS = Launcher(
    ("python3",),
    {
        "launcher.py": """
            import glob, json, sys
            only = sys.argv[2].split(";") if "--just" in sys.argv else []
            bad = False
            for path in sorted(glob.glob("books/*.book")):
                for line in open(path):
                    if line.startswith("- "):
                        name = line[2:].strip().rstrip("!")
                        if not only or name in only:
                            wrong = line.strip().endswith("!")
                            bad |= wrong
                            how = "BROKEN" if wrong else "fine"
                            print("reading", path, file=sys.stderr)
                            print(json.dumps({"check": name, "how": how, "ms": 3}))
            sys.exit(4 if bad else 0)
        """,
        "books/day.book": "- opens at six\n- closes at ten!\n- has a lamp\n",
    },
    "python3 launcher.py",
    "python3 launcher.py --just 'opens at six'",
    (
        "books/day.book#closes at ten", "books/day.book#has a lamp", "books/day.book#opens at six",
    ),
)  # fmt: skip
LAUNCHERS = {
    "classes": CLASSES, "node": NODE, "perl": PERL, "tcl": TCL, "go": GO, "java": JAVA,
    "ruby": RUBY, "shell": SHELL, "awkward": AWKWARD, "events": EVENTS,
}  # fmt: skip
