"""Texts in plain English: what docs/style.md forbids, as far as a program can see it."""

from __future__ import annotations

import ast
import os
import random
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
PACKAGE = ROOT / "src" / "wolfbane"
FORBIDDEN = {
    "X is no Y: write 'is not a Y'": r"(?<![Tt]here )\b(?:is|are|was|were) no (?!longer)\w",
    "is none of: write 'is not one of'": r"\b(?:is|are) none of\b",
    "a clause with 'what'": r"(?:^|(?<=[.:;] ))What (?!is |are |does |do |each )[^?.]*[.]",
    "a private word for fixed or removed": r"\b(?:[Mm]end(?:s|ed|ing)|[Gg]one)\b",
    "left behind: name the files, or write 'evidence'": r"\bleft behind\b",
    "came back, came up": r"\b(?:came|comes?|coming) (?:back|up|to be|of it)\b",
    "an old adverb": r"\b(?:anew|beside|meanwhile|likewise|lately)\b|\ball the same\b",
    "as it is: write 'unchanged'": r"\bas (?:it|they) (?:is|are|was|were)\b(?! \w+ed\b)",
    "beyond noise: write 'significantly'": r"\bnoise (?:explains|is\b)|\bbeyond noise\b",
    "programs do not tell": r"\b(?:told|tells?|telling)\b",
    "carry out, hand out, take in, cut off": (
        r"\bcarr(?:y|ies|ied) (?:\w+ )?out\b|\bhand(?:s|ed)? (?:\w+ )?(?:out|on|over)\b"
        r"|\btak(?:e|es|en) (?:\w+ )?in\b|\bcut off\b|\bpulled in\b"
    ),
    "exits with N: write 'exits with code N'": r"\b[Ee]xits? with `?\d",
    "inside of: write 'inside'": r"\binside of\b",
    "of its own: write 'its own'": r"\bof (?:yours|ours|its own|their own|our own|your own)\b",
    "else: write 'otherwise' or 'without it'": r"[,;] else\b(?! if)",
    "nobody, somebody, whoever: name who acts": r"\b(?:[Nn]obody|[Ss]omebody|[Ww]hoever)\b",
    "holds: write 'contains' or 'is true'": r"\bholds\b",
    "goes on: write 'continues'": r"\b(?:goes|went|going) on\b|\bon its way\b",
    "chosen: write 'selected'": r"\bchosen?\b",
    "a load: write 'a load test'": r"\ba load\b(?! (?:test|profile|generator|average))",
    "contradict each other: write 'cannot be used together'": r"\bcontradict each other\b",
}
"""Patterns, with the reason or what to write instead. Case counts."""
EXCEPTIONS = {
    "docs/style.md": ".*",  # it quotes them
    "docs/figures.md": r"files are gone|nobody reads|tells a secret|comes back",  # faults' names
    "docs/worker-protocol.md": r"chosen",  # a field of a message
    "docs/records.md": r"chosen|lately",  # fields of events
    "docs/settings.md": r"chosen by weight",  # nobody but the load test chooses there
    "docs/kinds.md": r"is none of",
    "docs/load.md": r"screenshots/",
    "app/importing.py": r"as they are imported",
    "events.py": r"chosen|lately",
    "inventory/imports.py": "gone",
    "reports/console/console_report.py": "told",
    "reports/html/page/list.js": r"chosen\.length",
    "workspace/settings.py": "chosen by weight",
    "demo/harbour/rules/steps/berths.py": ".*",  # the harbour's own words
}
"""What a page or a module may say all the same: names of fields, and other people's words."""


def _docs() -> Iterator[tuple[str, str]]:
    """Each page's name with its paragraphs; blocks of code and text in backticks are left out."""
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]
    for page in pages:
        text = re.sub(r"^(```.*?^```|    .*?$)", "", page.read_text(), flags=re.M | re.S)
        for paragraph in re.split(r"\n\s*\n|\n(?=[-|]|\d+\.)", text):
            yield str(page.relative_to(ROOT)), _plain(paragraph)


def _strings() -> Iterator[tuple[str, str]]:
    """Each module's name with the paragraphs of its strings, docstrings among them."""
    for path in sorted(PACKAGE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                for paragraph in re.split(r"\n\s*\n", node.value):
                    if " " in paragraph.strip():
                        yield str(path.relative_to(PACKAGE)), _plain(paragraph)


def _pages() -> Iterator[tuple[str, str]]:
    """The texts of the HTML page and of mails: between tags, and in the strings of scripts."""
    for path in sorted((PACKAGE / "reports").rglob("*")):
        if path.suffix in (".html", ".txt"):
            result = re.split(r"<[^>]*>|\{[%{#].*?[%}#]\}", path.read_text(), flags=re.S)
        elif path.suffix == ".js":
            result = re.findall(r"""["'`]([^"'`\n]*)["'`]""", path.read_text())
        else:
            continue
        for text in result:
            if " " in text.strip():
                yield str(path.relative_to(PACKAGE)), _plain(text)


def _plain(paragraph: str) -> str:
    return re.sub(r"``?[^`]+``?", "CODE", " ".join(paragraph.split()))


@cache
def _texts(source: str) -> list[tuple[str, str]]:
    return list(_docs() if source == "docs" else (*_strings(), *_pages()))


@pytest.mark.parametrize("source", ["docs", "program"])
@pytest.mark.parametrize("pattern", FORBIDDEN)
def test_texts_are_plain(pattern, source):
    result = [
        f"{name}: {text[max(match.start() - 40, 0) : match.end() + 40]}"
        for name, text in _texts(source)
        for match in re.finditer(FORBIDDEN[pattern], text)
        if not re.search(EXCEPTIONS.get(name, r"(?!)"), text)
    ]
    assert not result, f"{pattern}\n" + "\n".join(result)


def test_the_patterns_see_what_they_are_for():
    riddles = (
        "'x' is no name. What failed runs again. It holds tests, and goes on. Nobody told it, "
        "else it exits with 3. A launcher of its own is chosen, and cut off."
    )
    seen = [reason for reason, pattern in FORBIDDEN.items() if re.search(pattern, riddles)]
    assert len(seen) == 11, seen


@pytest.mark.parametrize("source", ["docs", "program"])
def test_sentences_are_short(source):
    """``STYLE_SEED=7 pytest -s tests/test_style.py`` prints ten sentences of each, to be read."""
    sentences = [
        sentence
        for _, text in _texts(source)
        for sentence in re.split(r"(?<=[.!?]) (?=[A-Z])", text)
        if len(sentence.split()) > 5 and "|" not in sentence
    ]
    drawn = random.Random(int(os.environ.get("STYLE_SEED", "1"))).sample(sentences, 10)
    print(f"\n{source}:", *drawn, sep="\n  ")
    lengths = [len(sentence.split()) for sentence in sentences]
    assert sum(lengths) / len(lengths) < 20
