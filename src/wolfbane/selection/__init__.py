"""The selection language: parses an expression, finds the matching tests, and explains the match.

Pure functions.
"""

from wolfbane.selection.explain import Choice, TermCount, Verdict, choose, term_counts
from wolfbane.selection.fields import FIELDS, Field
from wolfbane.selection.grammar import (
    EVERYTHING,
    And,
    Expression,
    Not,
    Or,
    Term,
    all_of,
    any_of,
    field_terms,
    parse,
    terms_of,
)
from wolfbane.selection.match import Matcher, may_match, wanted_outcomes

__all__ = [
    "EVERYTHING",
    "FIELDS",
    "And",
    "Choice",
    "Expression",
    "Field",
    "Matcher",
    "Not",
    "Or",
    "Term",
    "TermCount",
    "Verdict",
    "all_of",
    "any_of",
    "choose",
    "field_terms",
    "may_match",
    "parse",
    "term_counts",
    "terms_of",
    "wanted_outcomes",
]
