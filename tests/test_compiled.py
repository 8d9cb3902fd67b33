"""Compiled tests and their sources: notes of the compiler, debug information, class files."""

from __future__ import annotations

import json
import random
import shutil
import subprocess

import pytest

from conftest import suite


def commit_all(folder):
    folder.file(".gitignore", "built/\n.wolfbane/\n")
    for arguments in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "gauges")):
        folder.git(*arguments)


@pytest.mark.skipif(not shutil.which("cc"), reason="no C compiler here")
def test_a_compiled_program_depends_on_the_sources_that_its_compiler_notes(folder):
    for name, tags in (("gauge", "tide"), ("fees", "money")):
        folder.file(f"src/{name}.h", f"#define {name.upper()} 0\n")
        source = (
            f'// tags: {tags}\n\n#include "{name}.h"\nint main(void) {{ return {name.upper()}; }}'
        )
        folder.file(f"src/{name}.c", source)
    build = "mkdir -p built; for n in gauge fees; do cc -MMD -o built/$n src/$n.c; done"
    paths = "built/gauge", "built/fees"
    folder.file("wolfbane.toml", suite("c", "program", *paths, build=[build]))
    commit_all(folder)
    assert set(folder.run().outcomes.values()) == {"passed"}
    assert list(folder.run("--tag", "money").outcomes) == ["built/fees"]
    folder.file("src/gauge.h", "#define GAUGE 1\n")
    run = folder.run("--changed", "HEAD")
    assert run.outcomes == {"built/gauge": "failed"}, run.out
    folder.file("src/new.h", "")
    assert len(folder.run("--changed", "HEAD").outcomes) == 2, "it is not known what reads it"


SOURCE = "// tags: {tag}\n\nint {name}(void);\nint main(void) {{ return {name}(); }}\n"


@pytest.mark.skipif(not shutil.which("cc"), reason="no C compiler here")
def test_a_compiled_program_depends_on_the_sources_of_its_debug_information(folder):
    pytest.importorskip("elftools")
    for name, tag in (("gauge", "tide"), ("fees", "money")):
        folder.file(f"src/{name}.c", SOURCE.format(name=f"{name}_level", tag=tag))
        folder.file(f"src/{name}_level.c", f"int {name}_level(void) {{ return 0; }}\n")
    build = (
        "mkdir -p built; for n in gauge fees; do cc -g -o built/$n src/$n.c src/${n}_level.c; done"
    )
    paths = "built/gauge", "built/fees"
    folder.file(
        "wolfbane.toml", suite("c", "program", *paths, build=[build], inputs=["src/*.c", "src/*.h"])
    )
    commit_all(folder)
    assert set(folder.run().outcomes.values()) == {"passed"}
    assert list(folder.run("--tag", "money").outcomes) == ["built/fees"]
    assert list(folder.run("src/gauge.c:4").outcomes) == ["built/gauge"], "its own source"
    folder.file("src/fees_level.c", "int fees_level(void) { return 1; }\n")
    assert folder.run("--changed", "HEAD").outcomes == {"built/fees": "failed"}
    folder.file("src/new.h", "")
    assert len(folder.run("--changed", "HEAD").outcomes) == 2, "it is not known what reads it"


QUAY_TEST = """package quay;
// tags: {tag}
public class {name}Test {{
    public static void main(String[] words) {{
        if (new {name}().level() != {expected}) System.exit(1);
    }}
}}
"""
DEPTH = "package quay;\nclass Depth { static final int KEEL = 3; }\n"
CLASS_BRIDGE = """
about = "class files"
find = { files = ["*Test.class"] }
run = { command = ["java", "-cp", "built", "quay.{stem}"], names = { how = "files" } }
read = { format = "exit" }
"""


def level(name, body):
    return f"package quay;\nclass {name} {{ int level() {{ {body} }} }}\n"


@pytest.mark.skipif(not shutil.which("javac"), reason="no JDK here")
def test_a_class_file_depends_on_the_sources_of_the_classes_that_it_uses(folder):
    for name, tag in (("Gauge", "tide"), ("Fees", "money")):
        text = QUAY_TEST.format(name=name, tag=tag, expected="Depth.KEEL - 2")
        folder.file(f"src/quay/{name}Test.java", text)
        text = f"package quay;\nclass {name} {{ int level() {{ return new Tide().level(); }} }}\n"
        folder.file(
            f"src/quay/{name}.java",
            text.replace("new Tide().level()", "1") if tag == "money" else text,
        )
    folder.file("src/quay/Tide.java", "package quay;\nclass Tide { int level() { return 1; } }\n")
    folder.file(
        "src/quay/Depth.java", "package quay;\nclass Depth { static final int KEEL = 3; }\n"
    )
    folder.file("bridge.toml", CLASS_BRIDGE)
    build = "mkdir -p built && javac -d built src/quay/*.java"
    folder.file(
        "wolfbane.toml",
        suite(
            "quay", "bridge", "built", bridge="bridge.toml", build=[build], inputs=["src/**/*.java"]
        ),
    )
    commit_all(folder)
    gauge, fees = "built/quay/GaugeTest.class", "built/quay/FeesTest.class"
    assert folder.run().outcomes == {gauge: "passed", fees: "passed"}
    assert list(folder.run("--tag", "money").outcomes) == [fees]
    assert list(folder.run("src/quay/GaugeTest.java").outcomes) == [gauge]
    folder.file("src/quay/Tide.java", level("Tide", "return 9;"))
    assert folder.run("--changed", "HEAD").outcomes == {gauge: "failed"}
    folder.file(
        "src/quay/Depth.java", "package quay;\nclass Depth { static final int KEEL = 4; }\n"
    )
    changed = folder.run("--changed", "HEAD").outcomes
    assert set(changed) == {gauge, fees}, "the compiler copies constants"


@pytest.mark.skipif(not shutil.which("javac") or not shutil.which("cc"), reason="no compilers here")
def test_damaged_compiled_files_are_listed_without_sources(folder):
    pytest.importorskip("elftools")
    folder.file("Gauge.java", "class Gauge { int level() { return 1; } }\n")
    folder.file("gauge.c", "int main(void) { return 0; }\n")
    for command in (["javac", "Gauge.java"], ["cc", "-g", "-o", "gauge", "gauge.c"]):
        subprocess.run(command, cwd=folder.path, check=True)
    (folder.path / "damaged").mkdir()
    draw, names = random.Random(11), []
    for original in ("Gauge.class", "gauge"):
        whole = (folder.path / original).read_bytes()
        for number in range(30):
            data = bytearray(whole[: draw.randrange(4, len(whole))])
            for _ in range(number % 4):
                data[draw.randrange(4, len(data))] = draw.randrange(256)
            names.append(f"damaged/{number}-{original}")
            (folder.path / names[-1]).write_bytes(data)
    folder.file("wolfbane.toml", suite("c", "program", *names))
    run = folder.call("list", "--as", "json")
    assert (run.code, run.err) == (0, "")
    assert {test["path"] for test in json.loads(run.out)} == set(names)
