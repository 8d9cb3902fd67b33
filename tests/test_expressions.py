"""Runtime expressions, conditions, parameter styles, documents with lines: pure readers."""

from __future__ import annotations

import json

import pytest
import yaml
from hypothesis import given as for_any
from hypothesis import strategies as st

from wolfbane.kinds.workflow import conditions, expressions, styles
from wolfbane.kinds.workflow.documents import Document, DocumentError, look_up, step
from wolfbane.kinds.workflow.expressions import BadExpression, Untyped, read

VALUES = {
    "$statusCode": 200,
    "$response.body": {"a": [{"b": "Tide"}], "n": "5"},
    "$response.body#/n": "5",
    "$inputs.flag": False,
    "$inputs.none": None,
    "$response.header.ETag": Untyped("5"),
}


@pytest.mark.parametrize(
    "text",
    [
        "$url",
        "$method",
        "$statusCode",
        "$request.header.X-Rate",
        "$request.query.page",
        "$request.path.id",
        "$request.body",
        "$request.body#/a/0/b~1c",
        "$response.header.ETag",
        "$response.body",
        "$inputs.boat",
        "$outputs.number",
        "$steps.book.outputs.number",
        "$steps.book.outputs.list#/0/id",
        "$workflows.a.inputs.x",
        "$workflows.a.outputs.x.y",
        "$sourceDescriptions.harbour.url",
        "$components.parameters.page",
    ],
)
def test_every_form_of_an_expression_is_read_and_written_back(text):
    assert str(read(text)) == text


@pytest.mark.parametrize(
    ("text", "position"),
    [
        ("statusCode", 0),
        ("$statuscode", 0),
        ("$statusCode.x", 11),
        ("$request.heder.X", 9),
        ("$response.body#a", 15),
        ("$steps.s", 8),
        ("$inputs.", 8),
        ("$inputs.a b", 8),
        ("$request.query.a#/b", 16),
    ],
)
def test_what_is_no_expression_is_refused_with_its_place(text, position):
    with pytest.raises(BadExpression) as caught:
        read(text)
    assert caught.value.position == position


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("$statusCode == 200", True),
        ("$statusCode != 200", False),
        ("$statusCode >= 200", True),
        ("$statusCode<300&&$statusCode>199", True),
        ("$statusCode == '200'", False),
        ("$response.body.a[0].b == 'tide'", True),
        ("$response.body#/n > 4.5", False),
        ("$response.body#/n == '5'", True),
        ("$response.header.ETag > 4.5", True),
        ("$response.header.ETag == 5", True),
        ("5 == $response.header.ETag", True),
        ("$response.body.a[7].b != 1", False),
        ("$response.body.a[7].b < 1", False),
        ("$response.body.a[7].b != null", False),
        ("!$response.body.a[7].b", True),
        ("$inputs.flag", False),
        ("!$inputs.flag", True),
        ("$inputs.flag == false", True),
        ("$inputs.none == null", True),
        ("$inputs.none > 1", False),
        ("true == 1", False),
        ("($statusCode == 1 || $statusCode == 200) && !($statusCode == 3)", True),
        ("$response.body.a[7].b == null", True),
        ("'it''s' == 'IT''S'", True),
    ],
)
def test_conditions(text, holds):
    parsed = conditions.parse(text)
    assert conditions.holds(parsed, lambda expression: VALUES[str(expression)]) is holds


@for_any(st.text())
def test_any_condition_is_read_or_refused_at_a_place(text):
    try:
        conditions.parse(text)
    except BadExpression as error:
        assert 0 <= error.position <= len(text)


_number = st.integers(-999, 999)


@for_any(_number, _number, st.sampled_from(["==", "!=", "<", "<=", ">", ">="]))
def test_comparisons_of_numbers_are_those_of_numbers(left, right, sign):
    parsed = conditions.parse(f"$inputs.x {sign} {right}")
    assert conditions.holds(parsed, lambda _: left) == eval(f"{left} {sign} {right}")


@for_any(st.recursive(st.text() | st.integers(), lambda inner: st.lists(inner, max_size=3)))
def test_values_without_expressions_stay_as_they_are(value):
    if not expressions.expressions_in(value):
        assert expressions.evaluate_value(value, lambda expression: 1 / 0) == value


ARRAY, OBJECT = ["blue", "black"], {"R": 100, "G": 200}


@pytest.mark.parametrize(  # the examples of the table in OpenAPI 3.1, "Style Examples"
    ("style", "explode", "array", "members"),
    [
        ("matrix", False, ";color=blue,black", ";color=R,100,G,200"),
        ("matrix", True, ";color=blue;color=black", ";R=100;G=200"),
        ("label", False, ".blue,black", ".R,100,G,200"),
        ("label", True, ".blue.black", ".R=100.G=200"),
        ("simple", False, "blue,black", "R,100,G,200"),
        ("simple", True, "blue,black", "R=100,G=200"),
        ("form", False, "color=blue,black", "color=R,100,G,200"),
        ("form", True, "color=blue&color=black", "R=100&G=200"),
        ("spaceDelimited", False, "color=blue%20black", "color=R%20100%20G%20200"),
        ("pipeDelimited", False, "color=blue%7Cblack", "color=R%7C100%7CG%7C200"),
        ("deepObject", True, None, "color%5BR%5D=100&color%5BG%5D=200"),
    ],
)
def test_styles_of_parameters(style, explode, array, members):
    in_path = style in ("matrix", "label", "simple")
    write = styles.in_path if in_path else styles.in_query
    assert array in (None, write("color", ARRAY, style, explode=explode))
    assert members == write("color", OBJECT, style, explode=explode)


_keys = st.text(st.characters(codec="utf-8", exclude_categories=["C"]), min_size=1, max_size=6)
_json = st.recursive(
    st.none() | st.booleans() | st.integers() | _keys,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_keys, inner, max_size=3),
)


@for_any(st.dictionaries(_keys, _json, max_size=4))
def test_documents_read_back_and_every_pointer_leads_to_its_value(data):
    document = Document(yaml.safe_dump(data, allow_unicode=True, default_style='"'))
    assert Document(json.dumps(data)).data == data
    for key, value in data.items():
        assert look_up(data, step(key)) == value
        assert document.line(step(key)) >= 1


@pytest.mark.parametrize(
    ("text", "said", "line"),
    [
        ("a: 1\nb: [1\n", "not valid YAML", 3),
        ('{"a": 1,\n "b": }', "not valid JSON", 2),
        ("a: 1\na: 2\n", "duplicate key 'a'", 2),
        ("a: &x\n  b: *x\n", "an alias contains itself", 1),
    ],
)
def test_documents_that_cannot_be_read(text, said, line):
    with pytest.raises(DocumentError) as caught:
        Document(text)
    assert said in str(caught.value) and abs(caught.value.line - line) <= 1


def test_scalars_are_those_of_yaml_1_2():
    text = "a: on\nb: 2026-03-01\nc: true\nd: 0x1f\ne: 1e3\nf: ~\ng: '5'\nh: 012\n"
    assert list(Document(text).data.values()) == [
        "on",
        "2026-03-01",
        True,
        31,
        1000.0,
        None,
        "5",
        12,
    ]
