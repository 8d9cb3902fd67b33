"""Suites of kind cargo: compiled unit, integration and documentation tests."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import present
from wolfbane.kinds.cargo.runner.crates import doc_filters
from wolfbane.kinds.cargo.runner.libtest import LibtestReader

pytestmark = pytest.mark.skipif(not present("cargo"), reason="there is no Rust toolchain")

SUITE = '[[suite]]\nname = "tide"\nkind = "cargo"\npaths = ["tide"]\n'
LIBRARY = """
//! Tides.
pub mod fees;

/// The height after some hours.
/// ```
/// assert_eq!(tide::height(2), 4);
/// ```
/// ```
/// assert_eq!(tide::height(2), 5);
/// ```
/// ```
/// let height: i32 = "high";
/// ```
pub fn height(hours: i32) -> i32 { hours * 2 }

#[cfg(test)]
mod tests {
    use super::*;
    // tags: smoke
    #[test]
    fn fine() { println!("printed"); assert_eq!(height(1), 2) }
    #[test]
    fn wrong() { print!("no newline"); assert_eq!(height(1), 3, "at {}", 1) }
    #[test]
    #[ignore = "winter"]
    fn ignored() {}
    #[test]
    #[should_panic(expected = "dry")]
    fn panics() { panic!("it is dry") }
    #[test]
    #[should_panic]
    fn does_not_panic() {}
    #[test]
    fn denied() -> Result<(), String> { Err("denied".into()) }
    #[test]
    fn unwraps() { None::<i32>.unwrap(); }
    #[test]
    fn aborts() { println!("last words"); std::process::abort() }
    #[test]
    fn exits() { std::process::exit(3) }
    #[test]
    fn zlast() {}
}
"""
OUTCOMES = {
    "tide/src/lib.rs#tests / fine": "passed",
    "tide/src/lib.rs#tests / wrong": "failed",
    "tide/src/lib.rs#tests / ignored": "skipped",
    "tide/src/lib.rs#tests / panics": "passed",
    "tide/src/lib.rs#tests / does_not_panic": "failed",
    "tide/src/lib.rs#tests / denied": "errored",
    "tide/src/lib.rs#tests / unwraps": "errored",
    "tide/src/lib.rs#tests / aborts": "crashed",
    "tide/src/lib.rs#tests / exits": "crashed",
    "tide/src/lib.rs#tests / zlast": "passed",
    "tide/src/lib.rs#doc / height": "passed",
    "tide/src/lib.rs#doc / height (2)": "failed",
    "tide/src/lib.rs#doc / height (3)": "errored",
    "tide/src/fees.rs#tests / by_length": "passed",
    "tide/tests/api.rs#whole": "passed",
}


@pytest.fixture
def crate(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file(
        "tide/Cargo.toml", '[package]\nname = "tide"\nversion = "0.1.0"\nedition = "2021"\n'
    )
    folder.file("tide/src/lib.rs", LIBRARY)
    folder.file(
        "tide/src/fees.rs",
        "pub fn fee(n: u32) -> u32 { n * 3 }\n"
        "#[cfg(test)]\nmod tests {\n  #[test] fn by_length() { assert_eq!(super::fee(2), 6) }\n}\n",
    )
    folder.file("tide/tests/api.rs", "#[test] fn whole() { assert_eq!(tide::fees::fee(1), 3) }\n")
    return folder


def test_every_outcome_and_what_is_told_of_it(crate):
    run = crate.run("-j2", RUST_BACKTRACE="0")
    assert run.outcomes == OUTCOMES and run.code == 1
    assert "cargo test --no-run" in run.out
    results = {address.partition("#")[2]: r for address, r in run.results.items()}
    assert results["tests / fine"]["output"] == "printed\n"
    assert results["tests / fine"]["tags"] == ["smoke"]
    wrong = results["tests / wrong"]
    assert all(part in wrong["message"] for part in ("left: ", "right: ", "at 1"))
    assert wrong["output"].strip() == "no newline"
    assert "fn wrong" in LIBRARY.splitlines()[wrong["excerpt"]["line"]]
    assert results["tests / ignored"]["message"] == "winter"
    assert results["tests / denied"]["message"] == 'the test returned an error: "denied"'
    assert "last words" in results["tests / aborts"]["output"]
    assert "SIGABRT" in results["tests / aborts"]["message"]
    assert "E0308" in results["doc / height (3)"]["message"]


@pytest.mark.parametrize(
    "chosen",
    [
        "tide/src/lib.rs#tests / zlast",
        "tide/src/lib.rs#doc / height (2)",
        "tide/tests/api.rs#whole",
    ],
)
def test_one_is_run_alone(crate, chosen):
    assert crate.run(chosen).outcomes == {chosen: OUTCOMES[chosen]}


def test_a_line_chooses(crate):
    assert list(crate.run("tide/src/fees.rs:4").outcomes) == ["tide/src/fees.rs#tests / by_length"]
    assert list(crate.run("--tag", "smoke").outcomes) == ["tide/src/lib.rs#tests / fine"]


def test_a_change_is_compiled_before_it_is_judged(crate):
    assert crate.run("--file", "tide/src/fees.rs").code == 0
    source = (crate.path / "tide/src/fees.rs").read_text()
    crate.file("tide/src/fees.rs", source.replace("n * 3", "n * 4"))
    assert crate.run("--file", "tide/src/fees.rs").code == 1


def test_what_does_not_compile(crate):
    crate.file(
        "tide/src/fees.rs", 'pub fn fee(n: u32) -> u32 { n * "three" }\n\n#[test]\nfn a() {}\n'
    )
    run = crate.run()
    assert set(run.outcomes.values()) == {"errored"} and run.code == 1
    culprit = run.results["tide/src/fees.rs"]
    assert "cannot multiply" in culprit["message"] and culprit["excerpt"]["line"] == 1
    assert "tide/src/fees.rs:1" in run.results["tide/tests/api.rs"]["message"]


def test_a_program_with_a_main_function_of_its_own(crate):
    manifest = (crate.path / "tide/Cargo.toml").read_text()
    table = '[[test]]\nname = "own"\npath = "tests/own.rs"\nharness = false\n'
    crate.file("tide/Cargo.toml", manifest + table)
    crate.file(
        "tide/tests/own.rs",
        'fn main() { println!("no test harness"); std::process::exit(2) }\n',
    )
    run = crate.run("tide/tests/own.rs")
    assert run.outcomes == {"tide/tests/own.rs": "failed"}
    assert "exit code 2" in run.results["tide/tests/own.rs"]["message"]


def test_a_workspace_of_crates(folder):
    """A file of two programs has its tests twice; files are named from the workspace on."""
    folder.file("wolfbane.toml", SUITE)
    folder.file("tide/Cargo.toml", '[workspace]\nmembers = ["a", "b"]\n')
    for name in ("a", "b"):
        folder.file(f"tide/{name}/Cargo.toml", f'[package]\nname = "{name}"\nversion = "0.1.0"\n')
    folder.file("tide/a/src/lib.rs", "pub mod deep;\n")
    folder.file("tide/a/src/deep/mod.rs", '#[test]\nfn low() {\n  panic!("aground")\n}\n')
    folder.file("tide/b/src/lib.rs", "mod shared;\n")
    folder.file("tide/b/src/main.rs", "mod shared;\nfn main() {}\n")
    folder.file("tide/b/src/shared.rs", "#[test]\nfn both() {}\n")
    for backtrace in ("0", "1"):
        run = folder.run(RUST_BACKTRACE=backtrace)
        assert run.outcomes == {
            "tide/a/src/deep/mod.rs#low": "failed",
            "tide/b/src/shared.rs#both": "passed",
            "tide/b/src/shared.rs#both (bin b)": "passed",
        }
        low = run.results["tide/a/src/deep/mod.rs#low"]["excerpt"]
        assert (low["file"], low["line"]) == ("tide/a/src/deep/mod.rs", 3)
    assert len(folder.run("tide/b/src/shared.rs:2").outcomes) == 2


LOCK = "static LOCK: std::sync::Mutex<()> = std::sync::Mutex::new(());\n"


@pytest.mark.parametrize(
    ("lock", "processes"), [("", 2), (LOCK, 1), ("fn f() { let _tide_guard = 1; }\n", 1)]
)
def test_two_jobs_share_a_file_unless_its_tests_take_a_lock(folder, lock, processes):
    body = 'std::fs::write("NAME", std::process::id().to_string()).unwrap()'
    tests = [f"#[test] fn {n}() {{ {body.replace('NAME', n)} }}\n" for n in ("ebb", "flood")]
    folder.file("wolfbane.toml", SUITE)
    folder.file("tide/Cargo.toml", '[package]\nname = "tide"\nversion = "0.1.0"\n')
    folder.file("tide/src/lib.rs", lock + "".join(tests))
    assert folder.call("run", "--jobs", "2").code == 0
    numbers = {(folder.path / "tide" / name).read_text() for name in ("ebb", "flood")}
    assert len(numbers) == processes


def test_no_toolchain_blocks_its_suite_alone(crate):
    crate.file("wolfbane.toml", SUITE + 'cargo = "no-cargo"\n')
    run = crate.run()
    assert (run.code, set(run.outcomes.values())) == (4, {"blocked"})


def test_counts_of_a_crate_nobody_here_wrote(folder):
    matches = sorted(Path("/usr/share/cargo/registry").glob("strsim-*"))
    if not matches:
        pytest.skip("the crate's sources are not installed")
    shutil.copytree(matches[0], folder.path / "tide")
    folder.file("wolfbane.toml", SUITE)
    run = folder.run()
    own = subprocess.run(
        ["cargo", "test"], cwd=folder.path / "tide", capture_output=True, text=True, check=False
    ).stdout
    passed = [int(n) for n in re.findall(r"^test result: ok\. (\d+) passed", own, re.M)]
    assert len(passed) == 3
    assert list(run.outcomes.values()) == ["passed"] * sum(passed) and run.code == 0


def test_documentation_is_picked_by_words_without_spaces():
    known = [
        "src/lib.rs - height (line 4)",
        "src/lib.rs - height (line 14)",
        "src/lib.rs - height (line 114)",
        "src/fees.rs - fee (line 4)",
    ]

    def picked(message):
        skips = [message[i + 1] for i, word in enumerate(message) if word == "--skip"]
        filters = [w for i, w in enumerate(message) if w != "--skip" and message[i - 1] != "--skip"]
        return [
            name
            for name in known
            if any(w in name for w in filters) and not any(w in name for w in skips)
        ]

    for name in known:
        assert picked(doc_filters([name], known)) == [name]
    assert doc_filters([known[0], known[2]], known) is None


@pytest.mark.parametrize("size", [1, 3, 1000])
def test_the_reader_takes_text_in_any_pieces(size):
    text = (
        "\nrunning 3 tests\ntest a ... said ok\nok\ntest b::c - should panic ... FAILED\n"
        "test d ... test a ... ok\nignored, cold\n\nfailures:\n\n---- b::c stdout ----\nnote: no\n"
        "\n\nfailures:\n    b::c\n\ntest result: FAILED. 1 passed\n\n"
    )
    ended = []
    reader = LibtestReader(["a", "b::c", "d"], lambda name: None, ended.append)
    for start in range(0, len(text), size):
        reader.feed(text[start : start + size])
    reader.finish()
    assert [(e.name, e.status, e.text) for e in ended] == [
        ("a", "ok", "said ok\n"),
        ("b::c", "FAILED", ""),
        ("d", "ignored", "test a ... ok\n"),
    ]
    assert reader.details == {"b::c": "note: no"}


def test_without_building_the_programs_of_before_run(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("tide/Cargo.toml", '[package]\nname = "tide"\nversion = "0.1.0"\n')
    folder.file("tide/src/lib.rs", "#[test]\nfn a() {}\n/// ```\n/// ```\npub fn f() {}\n")
    first = folder.run("--no-build")
    assert (first.code, set(first.outcomes.values())) == (4, {"blocked"})
    assert not (folder.path / "tide/target").exists()
    folder.run()
    folder.file(
        "tide/src/lib.rs", "#[test]\nfn a() { panic!() }\n/// ```\n/// ```\npub fn f() {}\n"
    )
    outcomes = folder.run("--no-build").outcomes
    assert outcomes.pop("tide/src/lib.rs#a") == "passed"
    assert set(outcomes.values()) == {"blocked"}  # its documentation is compiled when it runs


_PRINTED = st.lists(
    st.sampled_from(
        ["line\n", "ok", "x", "\n", "\n\nfailures:\n", "test c ... ", "test ", "a ... "]
    )
).map("".join)


@given(_PRINTED, _PRINTED, st.lists(st.integers(1, 30), min_size=1))
def test_what_programs_print_is_read_the_same_in_any_pieces(first, second, sizes):
    def read(pieces):
        told = []
        reader = LibtestReader(["a", "b"], told.append, told.append)
        for piece in pieces:
            reader.feed(piece)
        return [*told, reader.finish(), reader.details]

    tail = "FAILED\n\nfailures:\n\n---- b stdout ----\nbad\n\n"
    whole = f"\nrunning 2 tests\ntest a ... {first}ok\ntest b ... {second}{tail}"
    pieces, rest = [], whole
    for size in sizes * len(whole):
        pieces.append(rest[:size])
        rest = rest[size:]
    assert read(pieces) == read([whole])


def test_the_toolchain_s_own_reason_is_the_message(crate):
    crate.file("tide/build.rs", 'fn main() { panic!("no water"); }')
    run = crate.run()
    [message] = {result["message"] for result in run.results.values()}
    assert "failed to run custom build command" in message and "no water" in message
    assert run.out.count("no water") == 1, "once for the crate"
    (crate.path / "tide/build.rs").unlink()
    manifest = (crate.path / "tide/Cargo.toml").read_text()
    crate.file("tide/Cargo.toml", f"{manifest}\n[dependencies\n")
    assert "unclosed table" in crate.run().text
    looked = crate.call("doctor", "--probe")
    assert "unclosed table" in " ".join(looked.out.split()) and "no problems" not in looked.out


def test_a_realtime_signal_has_a_name(crate):
    crate.file(
        "tide/tests/ended.rs",
        """
        extern "C" { fn raise(number: i32) -> i32; }
        #[test] fn ended() { unsafe { raise(36); } }
    """,
    )
    [result] = crate.run("--name", "ended").results.values()
    assert (result["outcome"], result["message"]) == (
        "crashed",
        "the test process ended: signal 36",
    )
