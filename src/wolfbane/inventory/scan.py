"""Scans all test files of the workspace, using the cache."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.basis.files import as_text, read_regular
from wolfbane.inventory.cache import CACHE, Cache, look
from wolfbane.inventory.files import suite_files
from wolfbane.inventory.scanning import scan_files
from wolfbane.inventory.tags import apply_rules, unique, with_source_tags
from wolfbane.kinds.compiled import source_text
from wolfbane.kinds.protocols import NestsTests, launcher_of, path_on_disk
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Tag, Test, TestFile
from wolfbane.results.completion_cache import write_words
from wolfbane.workspace.settings import Workspace


class Inventory(msgspec.Struct, dict=True):
    """All test files of a workspace. ``files`` is keyed by path.

    ``shared`` has the suites of files that several suites list; ``without_tests`` the files that a
    suite's paths list and whose source proves that they contain no tests, by suite.
    """

    workspace: Workspace
    files: dict[str, TestFile]
    shared: dict[str, list[str]]
    without_tests: dict[str, list[str]]
    cache: Cache

    @cached_property
    def tests(self) -> list[Test]:
        """Every test, with tags of suites and rules, in the order of suites and files.

        Tests of suites that list browsers appear once for each browser.
        """
        rules = self.workspace.settings.tag
        tags = {
            suite.name: tuple(Tag.parse(text, f"suite {suite.name}") for text in suite.tags)
            for suite in self.workspace.suites
        }
        browsers = {suite.name: suite.browsers for suite in self.workspace.suites}
        tests: list[Test] = []
        for file in self.files.values():
            extra = tags.get(file.suite)
            members: Sequence[Test] = file.tests
            if extra:
                members = [replace(t, tags=unique((*t.tags, *extra))) for t in members]
            if browsers[file.suite]:
                members = [
                    replace(t, browser=name) for name in browsers[file.suite] for t in members
                ]
            tests += members
        if rules:
            return apply_rules(tests, rules)
        return tests

    def tests_at(self, target: str) -> list[Test]:
        """Every test, for this target."""
        if not target:
            return self.tests
        return [replace(test, target=target) for test in self.tests]

    def collected(self, exact: Iterable[TestFile]) -> None:
        """Store the tests that workers collected in the cache, and compute the tests again."""
        for file in exact:
            merged = _merge(self.files[file.path], file)
            if merged.error:
                self.files[file.path] = merged
            else:
                self._keep(merged)
        self.__dict__.pop("tests", None)

    def learn(self, met: Mapping[str, Mapping[str, Test]], missed: Mapping[str, set[str]]) -> None:
        """Store the nested tests that a run found; remove those that did not appear."""
        for path in {*met, *missed}:
            known, learned = self.files[path], dict(met.get(path, {}))
            tests = [
                replace(test, exact=True) if learned.pop(test.name, None) else test
                for test in known.tests
                if test.name not in missed.get(path, ()) or test.name in learned
            ]
            tests += [replace(test, tags=(), target="") for test in learned.values()]
            self._keep(replace(known, tests=tuple(_nested_order(tests))))
        self.__dict__.pop("tests", None)

    def _keep(self, file: TestFile) -> None:
        suite = self.workspace.suite(file.suite)
        try:
            seen, source = look(self.workspace.root / file.path)
        except OSError:  # a test may take its own file away
            self.files[file.path] = file
            return
        tagged = with_source_tags(file, source_text(self.workspace.root, file.depends, source))
        key = settings_key(self.workspace.root, suite)
        self.cache.keep(
            self.workspace.root, file.path, suite=suite.name, settings=key, seen=seen, file=tagged
        )
        self.files[file.path] = tagged

    def rescan(self) -> None:
        """Scan again after a build that may have created or changed test files."""
        fresh = open_inventory(self.workspace)
        self.files, self.shared, self.cache = fresh.files, fresh.shared, fresh.cache
        self.without_tests = fresh.without_tests
        self.__dict__.pop("tests", None)

    def save(self) -> None:
        """Write the cache and the words for completion, if anything changed."""
        if self.cache.save():
            write_words(self.workspace.caches, self.tests)


def open_inventory(workspace: Workspace) -> Inventory:
    """Scan the workspace: read only files that have changed."""
    cache = Cache(workspace.caches / CACHE)
    files: dict[str, TestFile] = {}
    shared: dict[str, list[str]] = {}
    without: dict[str, list[str]] = {}
    for suite in workspace.suites:
        mine = suite_paths(workspace, suite)
        for path in mine:
            if path in files:
                shared.setdefault(path, [files[path].suite]).append(suite.name)
        own = [path for path in mine if path not in files]
        candidates = _suite_files(workspace, suite, own, cache=cache)
        with_tests = {path: file for path, file in candidates.items() if _may_hold_tests(file)}
        without[suite.name] = [
            path for path in own if path not in with_tests and as_text(path) == path
        ]
        files |= with_tests
    inventory = Inventory(
        workspace=workspace, files=files, shared=shared, without_tests=without, cache=cache
    )
    inventory.save()
    return inventory


def _may_hold_tests(file: TestFile) -> bool:
    return bool(file.tests or file.error or file.warnings) or not file.complete or file.exact


def suite_paths(workspace: Workspace, suite: Suite) -> Sequence[str]:
    """The files that a suite's settings name."""
    kind = find_kind(suite.kind)
    patterns = kind.patterns(workspace.root, suite)
    results = workspace.settings.workspace.results
    paths = [path_on_disk(suite, path) for path in suite.paths]
    exclude = [*suite.exclude, *([] if paths != suite.paths else [results])]
    return suite_files(workspace.root, paths, patterns, exclude=exclude)


def settings_key(root: Path, suite: Suite) -> str:
    """It changes with each setting of the suite, so that old entries are not used."""
    digest = hashlib.blake2b(repr(suite).encode())
    launcher = launcher_of(suite)
    if launcher:
        for key in launcher.settings_files:
            digest.update(read_regular(root / getattr(suite, key)))
    return f"{suite.kind} {digest.hexdigest()[:12]}"


def _suite_files(
    workspace: Workspace, suite: Suite, paths: Sequence[str], cache: Cache
) -> dict[str, TestFile]:
    """The files of a suite that contain tests: from the cache, or read."""
    root, settings = workspace.root, settings_key(workspace.root, suite)
    files: dict[str, TestFile | None] = {}
    for path in paths:
        known, file = cache.look_up(root, path, suite.name, settings)
        if known:
            files[path] = file
    unknown = [path for path in paths if path not in files]
    for path, scanned in zip(unknown, scan_files(root, suite, unknown), strict=True):
        files[path] = scanned.file
        if scanned.seen:
            cache.keep(
                root,
                scanned.path,
                suite=suite.name,
                settings=settings,
                seen=scanned.seen,
                file=scanned.file,
            )
    return {file.path: file for path in paths if (file := files[path]) is not None}


def _merge(scanned: TestFile, exact: TestFile) -> TestFile:
    """Exact tests, with the ends, lines and tags that are visible only in the source."""
    if exact.error:
        return replace(scanned, error=exact.error)
    by_name = {test.name: test for test in scanned.tests}
    starts = {block.name: block.start for block in scanned.blocks}
    tests = []
    for test in exact.tests:
        seen = by_name.get(test.name)
        if seen is not None:
            tags = unique((*seen.tags, *test.tags))
            test = replace(test, line=seen.line or test.line, end=seen.end, tags=tags)  # noqa: PLW2901
        elif not test.line:
            test = replace(test, line=starts.get(test.name.partition(" / ")[0], 0))  # noqa: PLW2901
        tests.append(test)
    complete = not scanned.dynamic
    if isinstance(find_kind(exact.kind), NestsTests):
        names = {test.name for test in tests}
        inside = [test for test in scanned.tests if test.name not in names]
        tests += [test for test in inside if any(name in names for name in test.ancestors)]
        tests = _nested_order(tests)
    depends = tuple(dict.fromkeys((*scanned.depends, *exact.depends)))
    return replace(
        exact, tests=tuple(tests), blocks=scanned.blocks, complete=complete, depends=depends
    )


def _nested_order(tests: Sequence[Test]) -> list[Test]:
    """Tests in order, each followed by the tests inside it."""
    inside: dict[str, list[Test]] = {}
    names = {test.name for test in tests}
    for test in tests:
        outer = next((name for name in test.ancestors if name in names), "")
        inside.setdefault(outer, []).append(test)

    def walk(outer: str) -> Iterator[Test]:
        siblings = inside.get(outer, [])
        for test in sorted(siblings, key=lambda test: test.line) if outer else siblings:
            yield test
            yield from walk(test.name)

    return list(walk(""))
