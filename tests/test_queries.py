"""Annotations, attributes and arguments of several languages become tests and tags."""

from __future__ import annotations

import pytest

from wolfbane.kinds.bridge.queries import queried

SOURCES = {
    "java": (
        'class Ledger {\n  @Case @Mark("smoke") void addsUp() {}\n  void helper() {}\n}',
        """
        (class_declaration name: (identifier) @group.name) @group
        (method_declaration (modifiers (marker_annotation name: (identifier) @kind))
          name: (identifier) @test.name (#eq? @kind "Case")) @test
        (method_declaration (modifiers (annotation name: (identifier) @mark
            arguments: (annotation_argument_list (string_literal) @tag)))
          name: (identifier) @test.name (#eq? @mark "Mark")) @test
    """,
    ),
    "c-sharp": (
        'class Ledger {\n  [Case, Mark("smoke")] void addsUp() {}\n}',
        """
        (class_declaration name: (identifier) @group.name) @group
        (method_declaration (attribute_list (attribute name: (identifier) @kind))
          name: (identifier) @test.name (#eq? @kind "Case")) @test
        (method_declaration (attribute_list (attribute name: (identifier) @mark
            (attribute_argument_list (attribute_argument (string_literal) @tag))))
          name: (identifier) @test.name (#eq? @mark "Mark")) @test
    """,
    ),
    "php": (
        "<?php class Ledger {\n  #[Case, Mark('smoke')] function addsUp() {}\n"
        "  function helper() {}\n}",
        """
        (class_declaration name: (name) @group.name) @group
        (method_declaration attributes: (attribute_list (attribute_group (attribute (name) @kind)))
          name: (name) @test.name (#eq? @kind "Case")) @test
        (method_declaration attributes: (attribute_list (attribute_group (attribute (name) @mark
            parameters: (arguments (argument (string) @tag)))))
          name: (name) @test.name (#eq? @mark "Mark")) @test
    """,
    ),
    "ruby": (
        'ledger "Ledger" do\n  entry "addsUp", :smoke do\n  end\n  helper\nend\n',
        """
        (call method: (identifier) @kind arguments: (argument_list . (string) @group.name)
          (#eq? @kind "ledger")) @group
        (call method: (identifier) @kind arguments: (argument_list . (string) @test.name)
          (#eq? @kind "entry")) @test
        (call method: (identifier) @kind
          arguments: (argument_list . (string) @test.name (simple_symbol) @tag)
          (#eq? @kind "entry")) @test
    """,
    ),
    "go": (
        'package ledger\nfunc proveSum(c *Clerk) { c.Mark("smoke") }\nfunc helper() {}\n',
        """
        (function_declaration name: (identifier) @test.name (#match? @test.name "^prove")) @test
        (function_declaration name: (identifier) @test.name body: (block (statement_list
            (expression_statement (call_expression
              function: (selector_expression field: (field_identifier) @mark)
              arguments: (argument_list (interpreted_string_literal) @tag)))))
          (#eq? @mark "Mark")) @test
    """,
    ),
    "typescript": (
        'class Ledger {\n  @Case @Mark("smoke") addsUp(): void {}\n  helper() {}\n}',
        """
        (class_declaration name: (type_identifier) @group.name) @group
        (class_body (decorator (identifier) @kind) . (decorator)*
          . (method_definition name: (property_identifier) @test.name) @test
          (#eq? @kind "Case"))
        (class_body (decorator (call_expression function: (identifier) @mark
            arguments: (arguments (string) @tag)))
          . (method_definition name: (property_identifier) @test.name) @test
          (#eq? @mark "Mark"))
    """,
    ),
}
LITERALS = {
    "javascript": r"""test('it\'s \u{1F30A} "x"'); test("a\n\\b"); test(`t \` k`)""",
    "php": r"""<?php test('it\'s \n'); test("a\n\\b$");""",
    "ruby": "test 'it\\'s \\n'\ntest \"a\\n\\\\b\\u00e9\"\n",
    "go": 'package x\nfunc a() {\ntest(`it\\n "q"`)\ntest("a\\n\\"b") }',
    "c-sharp": 'class A { void b() { test("it\\"s"); test(@"a\\n"); } }',
    "java": 'class A { void b() { test("it\\"s\\u00e9"); test("x"); } }',
    "rust": 'fn a() { test("it\\"s"); test(r"a\\n"); }',
}
MEANT = {
    "javascript": ['it\'s \U0001f30a "x"', "a\n\\b", "t ` k"],
    "php": ["it's \\n", "a\n\\b$"],
    "ruby": ["it's \\n", "a\n\\b\u00e9"],
    "go": ['it\\n "q"', 'a\n"b'],
    "c-sharp": ['it"s', "a\\n"],
    "java": ['it"s\u00e9', "x"],
    "rust": ['it"s', "a\\n"],
}
SOURCES["tsx"] = SOURCES["typescript"]


@pytest.mark.parametrize("language", SOURCES)
def test_annotations_of_languages(language):
    home = "typescript" if language == "tsx" else language.replace("-", "_")
    pytest.importorskip(f"tree_sitter_{home}")
    source, query = SOURCES[language]
    [test] = [item for item in queried(source.encode(), language, query) if item.is_test]
    name = "proveSum" if language == "go" else "Ledger / addsUp"
    assert (test.whole_name, test.line, test.all_tags) == (name, 2, ["smoke"])


@pytest.mark.parametrize("language", LITERALS)
def test_a_literal_is_what_it_stands_for(language):
    pytest.importorskip(f"tree_sitter_{language.replace('-', '_')}")
    around = {"c-sharp": "(argument (_) @test.name)", "php": "(argument (_) @test.name)"}
    inside = around.get(language, "(_) @test.name")
    arguments = {"javascript": "arguments", "rust": "arguments", "php": "arguments"}
    call = {
        "php": "function_call_expression",
        "c-sharp": "invocation_expression",
        "java": "method_invocation",
        "ruby": "call",
    }
    node, listed = call.get(language, "call_expression"), arguments.get(language, "argument_list")
    query = f"({node} arguments: ({listed} . {inside})) @test"
    result = queried(LITERALS[language].encode(), language, query)
    assert [item.name for item in result] == MEANT[language]
