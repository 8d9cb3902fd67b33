"""The words of plain-language feature files, by language."""

from __future__ import annotations

ENGLISH = "en"
KEYWORDS: dict[str, dict[str, tuple[str, ...]]] = {
    "en": {
        "feature": ("Feature",),
        "rule": ("Rule",),
        "background": ("Background",),
        "outline": ("Scenario Outline", "Scenario Template"),
        "scenario": ("Scenario", "Example"),
        "examples": ("Examples", "Scenarios"),
        "given": ("Given",),
        "when": ("When",),
        "then": ("Then",),
        "and": ("And", "But"),
    },
    "de": {
        "feature": ("Funktionalität", "Funktion"),
        "rule": ("Regel",),
        "background": ("Grundlage", "Hintergrund", "Voraussetzungen"),
        "outline": ("Szenariogrundriss", "Szenarien"),
        "scenario": ("Szenario", "Beispiel"),
        "examples": ("Beispiele",),
        "given": ("Angenommen", "Gegeben sei", "Gegeben seien", "Gegeben ist", "Gegeben sind"),
        "when": ("Wenn",),
        "then": ("Dann",),
        "and": ("Und", "Aber"),
    },
    "fr": {
        "feature": ("Fonctionnalité",),
        "rule": ("Règle",),
        "background": ("Contexte",),
        "outline": ("Plan du scénario", "Plan du Scénario"),
        "scenario": ("Scénario", "Exemple"),
        "examples": ("Exemples",),
        "given": (
            "Étant donnés", "Étant données", "Étant donnée", "Étant donné",
            "Etant donnés", "Etant données", "Etant donnée", "Etant donné", "Soit", "Sachant",
        ),
        "when": ("Quand", "Lorsque"),
        "then": ("Alors", "Donc"),
        "and": ("Et", "Mais"),
    },
    "es": {
        "feature": ("Característica", "Necesidad del negocio", "Requisito"),
        "rule": ("Regla",),
        "background": ("Antecedentes",),
        "outline": ("Esquema del escenario",),
        "scenario": ("Escenario", "Ejemplo"),
        "examples": ("Ejemplos",),
        "given": ("Dados", "Dadas", "Dado", "Dada"),
        "when": ("Cuando",),
        "then": ("Entonces",),
        "and": ("Y", "E", "Pero"),
    },
    "pt": {
        "feature": ("Funcionalidade", "Característica"),
        "rule": ("Regra",),
        "background": ("Contexto", "Cenário de Fundo"),
        "outline": ("Esquema do Cenário", "Delineação do Cenário"),
        "scenario": ("Cenário", "Cenario", "Exemplo"),
        "examples": ("Exemplos", "Cenários"),
        "given": ("Dados", "Dadas", "Dado", "Dada"),
        "when": ("Quando",),
        "then": ("Então", "Entao"),
        "and": ("E", "Mas"),
    },
}  # fmt: skip
STEPS = ("given", "when", "then", "and")
HEADINGS = ("feature", "rule", "background", "outline", "scenario", "examples")
EVERY_LANGUAGE = "*"
"""A step may begin with a star instead of a word, in any language."""
