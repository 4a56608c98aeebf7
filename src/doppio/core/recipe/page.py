"""The page that tells what may stand in a recipe: made of what the kinds declare, so it is never behind them."""

from collections.abc import Iterator
from typing import Any

from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.branches.kind import BRANCHES
from doppio.core.chunking.kind import RULES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Family, Setting
from doppio.core.question.joins.kind import JOINS
from doppio.core.question.kind import SEARCH_TERMS, WORDINGS
from doppio.core.question.settings import QUESTION
from doppio.core.reranking.kind import COMMON, HEAVIEST, MOST_SCORERS, SCORERS
from doppio.core.select.answer.kind import ANSWERS
from doppio.core.select.diversity.kind import DIVERSITY
from doppio.core.select.kind import SELECTION
from doppio.core.select.orders.kind import ORDERS
from doppio.core.select.versions.kind import VERSIONS
from doppio.core.select.widening.kind import WIDENING

PARTS: tuple[tuple[str, Family[Any]], ...] = (
    ("chunking", RULES),
    ("branches[]", BRANCHES),
    ("branches[].structure", STRUCTURES),
    ("question.terms", SEARCH_TERMS),
    ("question.wordings[]", WORDINGS),
    ("question.join", JOINS),
    ("fusion", METHODS),
    ("select", SELECTION),
    ("select.versions", VERSIONS),
    ("select.diversity", DIVERSITY),
    ("select.widening", WIDENING),
    ("select.order", ORDERS),
    ("select.answer", ANSWERS),
)


def tables() -> str:
    """All parts of a recipe as they stand in docs/formats.md, for Doppio's own kinds."""
    return "\n\n".join([_table(f"`{path}`", family) for path, family in PARTS] + [_question(), _rerank()])


def _question() -> str:
    rows = ["| `question` | allowed (default) | applies |", "|---|---|---|"]
    for setting in QUESTION:
        rows += _rows(f".{setting.name}", setting)
    return "\n".join(rows)


def _table(title: str, family: Family[Any]) -> str:
    rows = [f"| {title} | allowed (default) | applies |", "|---|---|---|"]
    for setting in family.common:
        rows += _rows(f".{setting.name}", setting)
    for kind in family:
        if family.origin(kind.name):
            continue
        rows.append(f"| `{family.key}`: **`{kind.name}`** | {kind.title} | |")
        for setting in kind.settings:
            rows += _rows(f".{setting.name}", setting)
    return "\n".join(rows)


def _rerank() -> str:
    rows = ["| `rerank`, or null | allowed (default) | applies |", "|---|---|---|"]
    offered = "a registered joint scorer (`joint-english`), or `late-interaction`"
    rows.append(f"| `.scorer` | {offered} | when asked |")
    several = f"instead of one, up to {MOST_SCORERS}, each with its `scorer` and a `weight`, 0 to {HEAVIEST} (1)"
    rows.append(f"| `.scorers` | {several} | when asked |")
    for setting in [*COMMON, *(one for kind in SCORERS if not SCORERS.origin(kind.name) for one in kind.settings)]:
        rows += _rows(f".{setting.name}", setting)
    return "\n".join(rows)


def _rows(name: str, setting: Setting) -> Iterator[str]:
    when = "when built" if setting.built else "when asked"
    limits = "".join(f"; with {other} {', '.join(values)}" for other, values in setting.when.items())
    more = f"; {setting.help}" if setting.help else ""
    told = setting.name == "analysis" and name.count(".") > 1
    says = "null or an object as `.analysis`" if told else allowed(setting)
    yield f"| `{name}` | {setting.title}: {says}{more}{limits} | {when} |"
    for one in () if told else setting.inside:
        yield from _rows(f"{name}.{one.name}", one)


def allowed(setting: Setting) -> str:
    """What a setting may be, in words, with its default."""
    choices = setting.schema.get("anyOf", [setting.schema])
    schema = choices[0]
    default = setting.default
    said = _values(setting, schema)
    if len(choices) > 1:
        said = f"null or {said}"
    if setting.required:
        return f"{said} (has to be given)"
    plain = default is not None and not isinstance(default, dict | list)
    return f"{said} ({_shown(default)})" if plain else said


def _values(setting: Setting, schema: dict[str, Any]) -> str:
    if setting.kinds:
        return f"a list, each as in `{setting.kinds}`" if setting.many else f"see `{setting.kinds}`"
    if setting.inside:
        return "an object with"
    if setting.choices:
        return ", ".join(f"`{value}`" for value in setting.choices)
    if "minimum" in schema:
        return f"{schema['minimum']} to {schema['maximum']}"
    if schema["type"] == "string" and schema.get("format") in (None, "lines") and "pattern" not in schema:
        return "a text"
    return {"boolean": "true or false", "string": "a name", "object": "an object", "array": "a list"}[schema["type"]]


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if value == "":
        return "empty"
    return f"{value:g}" if isinstance(value, float) else str(value).replace("\n", "\\n")
