"""Checking a recipe field by field, and filling in what it leaves out."""

import copy
import json
import math
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from doppio.core.branches.kind import BRANCHES, kind_of
from doppio.core.branches.sparse.settings import ANALYSIS, analysis_problems
from doppio.core.chunking.kind import RULES
from doppio.core.errors import RecipeError
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Family, Schema, Setting, family_of, object_schema
from doppio.core.question.conditions import ConditionError, read_conditions
from doppio.core.question.settings import QUESTION
from doppio.core.recipe.messages import against
from doppio.core.recipe.recipe import Body, Recipe
from doppio.core.recipe.schema import SELECTED_BY, outline, question_schema
from doppio.core.select.diversity.kind import DIVERSITY
from doppio.core.select.kind import SELECTION
from doppio.core.select.writing import wrong_template
from doppio.core.showing import shown

DEEPEST = 16
RESERVED = ("documents", "chunks", "fused", "reranked", "context")


def check(body: Any, where: str = "") -> Recipe:
    """Check a recipe and fill in what it leaves out.

    Parameters
    ----------
    body : JSON value
    where : str
        Put before the message, such as the name of the file.

    Raises
    ------
    RecipeError
        Names the field, what stands there and what is allowed, as in
        `branches[1].depth: 0 is not between 1 and 10000`.
    """
    prefix = f"{where}: " if where else ""
    body = _copied(body, where)
    problems = list(_problems(body))
    if problems:
        raise RecipeError(prefix + "; ".join(problems))
    for branch in body["branches"]:
        body["fusion"]["weights"].setdefault(branch["id"], 1)
    return Recipe(body)


def _copied(value: Any, path: str, depth: int = 0) -> Any:
    """A copy of a JSON value.

    Raises
    ------
    RecipeError
        If it is nested deeper than any recipe, or a number in it is not finite; names the field.
    """
    if depth > DEEPEST:
        raise RecipeError(f"{path[:60]}: nested too deeply")
    if isinstance(value, dict):
        return {key: _copied(item, f"{path}.{key}" if path else str(key), depth + 1) for key, item in value.items()}
    if isinstance(value, list):
        return [_copied(item, f"{path}[{place}]", depth + 1) for place, item in enumerate(value)]
    if isinstance(value, float) and not math.isfinite(value):
        raise RecipeError(f"{path}: {value} is not a finite number")
    return value


def read_recipe(path: Path) -> Recipe:
    """Read and check a recipe file."""
    try:
        body = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError as error:
        raise RecipeError(f"{path}: no such file") from error
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError(f"{path}: cannot be read ({error})") from error
    except json.JSONDecodeError as error:
        raise RecipeError(f"{path}, line {error.lineno}: not JSON ({error.msg})") from error
    return check(body, str(path))


def check_chunking(body: Any) -> Body:
    """Check the chunking part of a recipe on its own and fill in what it leaves out.

    Raises
    ------
    RecipeError
        Names the field, what stands there and what is allowed.
    """
    body = _copied(body, "chunking")
    problems = list(_of_family(RULES, body, "chunking"))
    if problems:
        raise RecipeError("; ".join(problems))
    return dict(body)


def check_analysis(body: Any) -> Body:
    """Check the analysis of a sparse branch on its own and fill in what it leaves out.

    Raises
    ------
    RecipeError
        Names the field, what stands there and what is allowed.
    """
    body = _copied(body, "analysis")
    problems = list(_filled(object_schema(ANALYSIS, {}), body, "analysis"))
    if not problems:
        problems = [f"analysis.{field}: {wrong}" for field, wrong in analysis_problems(body)]
    if problems:
        raise RecipeError("; ".join(problems))
    return dict(body)


def _problems(body: Any) -> Iterator[str]:
    """Every mistake in the recipe; fills in defaults on the way."""
    found = list(_filled(outline(), body, ""))
    # What is wrong around the parts is told with what is wrong in those that are there.
    parts = body if isinstance(body, dict) else {}
    if isinstance(parts.get("chunking"), dict):
        yield from _of_family(RULES, body["chunking"], "chunking")
    if isinstance(parts.get("question"), dict):
        found += _settings(QUESTION, question_schema(), body["question"], "question")
    if isinstance(parts.get("branches"), list):
        for place, branch in enumerate(body["branches"]):
            found += _of_family(BRANCHES, branch, f"branches[{place}]")
    if isinstance(parts.get("fusion"), dict):
        found += _of_family(METHODS, body["fusion"], "fusion")
    if isinstance(parts.get("select"), dict):
        body["select"].setdefault("rule", SELECTED_BY)
        found += _of_family(SELECTION, body["select"], "select")
    yield from found
    # Nothing between the parts hangs on the chunking.
    if not found:
        yield from _between_parts(body)


def _between_parts(body: Body) -> Iterator[str]:
    """What is wrong between parts that are right on their own."""
    fusion, rerank = body["fusion"], body["rerank"]
    seen: list[str] = []
    for place, branch in enumerate(body["branches"]):
        if branch["id"] in seen or branch["id"] in RESERVED:
            why = "stands for another branch" if branch["id"] in seen else "is the name of a stage"
            yield f"branches[{place}].id: {branch['id']!r} {why} already; take another one"
        seen.append(branch["id"])
    for key in fusion["weights"]:
        if key not in seen:
            yield f"fusion.weights.{key}: no branch has this id; there are {', '.join(seen)}"
    if all(fusion["weights"].get(identity, 1) == 0 for identity in seen):
        yield "fusion.weights: all are 0; at least one must be positive"
    if rerank:
        yield from _scorers(rerank)
    try:
        read_conditions(body["question"]["conditions"])
    except ConditionError as error:
        yield f"question.{error}"
    if wrong := wrong_template(body["select"]["template"]):
        yield f"select.template: {wrong}"
    diversity = body["select"]["diversity"]["kind"]
    if DIVERSITY.get(diversity).compares_vectors and not any(
        getattr(kind_of(branch), "gives_vectors", False) for branch in body["branches"]
    ):
        yield f"select.diversity.kind: {diversity!r} compares vectors, and no branch has any; take shared-words"
    if rerank and rerank["shortlist"] > fusion["depth"]:
        yield f"rerank.shortlist: {rerank['shortlist']} is above fusion.depth, {fusion['depth']}"


def _scorers(rerank: Body) -> Iterator[str]:
    """What is wrong with the scorers that a recipe names; fills in their weights."""
    if "scorer" not in rerank and "scorers" not in rerank:
        yield "rerank.scorer: missing"
    if "scorer" in rerank and "scorers" in rerank:
        yield "rerank.scorers: stands beside rerank.scorer; give one of the two"
    if rerank["windows"] is not None and rerank["window"] is None:
        yield f"rerank.windows: {rerank['windows']} without rerank.window, which says how long a window is"
    named: list[str] = []
    for place, one in enumerate(rerank.get("scorers", [])):
        one.setdefault("weight", 1)
        if one["scorer"] in named:
            yield f"rerank.scorers[{place}].scorer: {one['scorer']!r} stands there already; give it one weight"
        named.append(one["scorer"])
    if named and all(one["weight"] == 0 for one in rerank["scorers"]):
        yield "rerank.scorers: all weights are 0; at least one must be positive"


def _of_family(family: Family[Any], value: Any, path: str) -> list[str]:
    """Every mistake of a part that names a kind; fills in defaults, and gives settings their present names."""
    schemas, key = family.schemas(), family.key
    if not isinstance(value, dict):
        return [f"{path}: {shown(value)} is not an object"]
    if key not in value:
        return [f"{path}.{key}: missing; allowed are {', '.join(schemas)}"]
    if not isinstance(value[key], str) or value[key] not in schemas:
        return [f"{path}.{key}: {shown(value[key])} is not one of {', '.join(schemas)}"]
    kind = family.get(value[key])
    found = _settings(family.settings_of(kind), schemas[kind.name], value, path)
    if not found and hasattr(kind, "problems"):
        found += [f"{path}.{field}: {wrong}" for field, wrong in kind.problems(value)]
    return found


def _settings(settings: Sequence[Setting], schema: Schema, value: Body, path: str) -> list[str]:
    """Every mistake in settings that stand together; see `_of_family`."""
    for setting in settings:
        for older in setting.older:
            if older in value and setting.name not in value:
                value[setting.name] = value.pop(older)
        if setting.kinds and value.get(setting.name, "") is None:
            # Older recipes have nothing where a kind can be named now.
            del value[setting.name]
    found = list(_filled(schema, value, path))
    for setting in settings:
        if setting.kinds and not found:
            inside, place = value[setting.name], f"{path}.{setting.name}"
            parts = [(one, f"{place}[{at}]") for at, one in enumerate(inside)] if setting.many else [(inside, place)]
            for part, at_path in parts:
                found += _of_family(family_of(setting.kinds), part, at_path)
    return found


def _filled(schema: Schema, value: Any, path: str) -> Iterator[str]:
    problems = list(against(schema, value, path))
    yield from problems
    if not problems:
        _fill(schema, value)


def _fill(schema: Schema, value: Any) -> None:
    if not isinstance(value, dict):
        return
    for key, below in schema.get("properties", {}).items():
        if key not in value and "default" in below:
            value[key] = copy.deepcopy(below["default"])
        if key in value:
            for choice in [below, *below.get("anyOf", [])]:
                if choice.get("type") == "integer" and isinstance(value[key], float):
                    # 160.0 is a whole number to JSON, and to nobody who counts.
                    value[key] = int(value[key])
                _fill(choice, value[key])
