"""A recipe: the complete settings of a pipeline as one JSON document, checked field by field."""

import copy
import json
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator
from jsonschema.exceptions import ValidationError

from doppio.core.chunking import rules
from doppio.core.chunking.context import CONTEXTS
from doppio.core.dense.metric import METRICS
from doppio.core.dense.structures.kind import STRUCTURES as KINDS_OF_STRUCTURE
from doppio.core.errors import RecipeError
from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.kind import METHODS
from doppio.core.sparse.weighting import OKAPI, VARIANTS
from doppio.core.text.analysis import LANGUAGES, PAIRS, SINGLE

FORMAT = "doppio-recipe/1"
DEEPEST = 16
DEFAULT_ENCODER = "compact-english"
RESERVED = ("documents", "chunks", "fused", "reranked", "context")
TYPES = {"object": "an object", "array": "a list", "number": "a number", "integer": "a whole number",
         "string": "a text", "boolean": "true or false", "null": "null"}  # fmt: skip


def _whole(low: int, high: int, default: int | None = None) -> dict[str, Any]:
    return {"type": "integer", "minimum": low, "maximum": high, **_default(default)}


def _number(low: float, high: float, default: float | None = None) -> dict[str, Any]:
    return {"type": "number", "minimum": low, "maximum": high, **_default(default)}


def _one_of(*values: Any, default: Any = None) -> dict[str, Any]:
    return {"enum": list(values), **_default(default)}


def _default(value: Any) -> dict[str, Any]:
    return {} if value is None else {"default": value}


def _object(required: str, **properties: Any) -> dict[str, Any]:
    return {
        "type": "object",
        "additionalProperties": False,
        "required": required.split(),
        "properties": properties,
    }


_DEPTH = _whole(1, 10_000, 50)
# Where these end the text does: `$` would let a line end follow.
_MODEL = {"type": "string", "pattern": r"^[a-z0-9][a-z0-9-]{0,63}\Z"}
_IDENTITY = {"type": "string", "pattern": r"^[a-z][a-z0-9-]{0,31}\Z"}
_GRAMS = _object("from to", **{"from": _whole(1, 10), "to": _whole(1, 10)})
_SWITCH = {"type": "boolean", "default": True}
_ANALYSIS = _object(
    "",
    language=_one_of(*LANGUAGES, default="en"),
    stem=_SWITCH,
    stop_words=_SWITCH,
    keep_codes=_SWITCH,
    cjk=_one_of(PAIRS, SINGLE, default=PAIRS),
    grams={"anyOf": [_GRAMS, {"type": "null"}], "default": None},
    # Its groups are looked at by `_synonym_problems`: there may be a quarter of a million words in them.
    synonyms={"type": "array", "default": []},
)
GROUPS, LONGEST_GROUP, LONGEST_WORD = 5000, 50, 100


def _field(weight: float) -> dict[str, Any]:
    return _object(
        "",
        weight=_number(0, 100, weight),
        b=_number(0, 1, 0.75),
        analysis={"anyOf": [_ANALYSIS, {"type": "null"}], "default": None},
    )


_FIELDS = _object("body", title=_field(2), headings=_field(1.5), body=_field(1))
BRANCHES = {
    "bm25": _object(
        "id kind",
        id=_IDENTITY,
        kind=_one_of("bm25"),
        variant=_one_of(*VARIANTS, default="okapi"),
        k1=_number(0, 10, 1.2),
        b=_number(0, 1, 0.75),
        delta={"anyOf": [{"type": "number", "minimum": 0, "maximum": 10}, {"type": "null"}], "default": None},
        mu=_number(1, 100_000, 1000),
        fields={"anyOf": [_FIELDS, {"type": "null"}], "default": None},
        depth=_DEPTH,
        analysis={**_ANALYSIS, "default": {}},
    ),
    "vector": _object(
        "id kind",
        id=_IDENTITY,
        kind=_one_of("vector"),
        encoder={**_MODEL, "default": DEFAULT_ENCODER},
        metric=_one_of(*METRICS, default="cosine"),
        structure={"type": "object", "default": {"kind": "exact"}},
        depth=_DEPTH,
    ),
}


STRUCTURES = KINDS_OF_STRUCTURE.schemas({})
_WEIGHTS = {"type": "object", "additionalProperties": _number(0, 1000), "default": {}}
FUSION = METHODS.schemas({"weights": _WEIGHTS, "depth": _DEPTH})
_RERANK = _object(
    "scorer",
    scorer=_MODEL,
    shortlist=_whole(1, 1000, 20),
    blend={"anyOf": [_number(0, 10), {"type": "null"}], "default": None},
    floor={"anyOf": [_number(-1000, 1000), {"type": "null"}], "default": None},
)
_HOST = _object("size", size=_whole(16, 200_000))


def _rule(name: str, overlap: int = 50_000, **more: Any) -> dict[str, Any]:
    return _object(
        "rule unit size",
        rule=_one_of(name),
        unit=_one_of("tokens", "words", "characters"),
        size=_whole(8, 100_000),
        overlap={**_whole(0, overlap), "default": 0},
        minimum={**_whole(0, 100_000), "default": 0},
        context=_one_of(*CONTEXTS, default="none"),
        host={"anyOf": [_HOST, {"type": "null"}], "default": None},
        **more,
    )


# The overlap of sentence groups and topic shifts counts sentences.
CHUNKING = {
    rules.NATURAL: _rule(rules.NATURAL),
    rules.FIXED: _rule(rules.FIXED),
    rules.SENTENCES: _rule(rules.SENTENCES, 50),
    rules.OUTLINE: _rule(rules.OUTLINE, level=_whole(1, 9, 2)),
    rules.TOPIC: _rule(
        rules.TOPIC,
        50,
        signal=_one_of("terms", "vectors", default="terms"),
        window=_whole(1, 50, 3),
        sensitivity=_number(-5, 5, 0.5),
    ),
    rules.ROWS: _rule(rules.ROWS),
}
SCHEMA = _object(
    "format chunking branches",
    format=_one_of(FORMAT),
    name={"type": "string", "minLength": 1, "maxLength": 120, "default": "unnamed"},
    chunking={"type": "object"},
    branches={"type": "array", "minItems": 1, "maxItems": 8},
    fusion={"type": "object", "default": {"method": "reciprocal-rank"}},
    rerank={"anyOf": [_RERANK, {"type": "null"}], "default": None},
    select={
        **_object(
            "",
            k=_whole(1, 100, 5),
            diversity={"type": "null", "default": None},
            widening={**_object("kind", kind=_one_of("none")), "default": {"kind": "none"}},
            budget_tokens=_whole(1, 1_000_000, 1500),
        ),
        "default": {},
    },
)


@dataclass(frozen=True)
class Recipe:
    """A recipe that has been checked and filled in; `body` is the JSON document."""

    body: dict[str, Any]

    @property
    def name(self) -> str:
        return str(self.body["name"])

    @property
    def chunking(self) -> dict[str, Any]:
        return rules.filled(self.body["chunking"])

    @property
    def branches(self) -> list[dict[str, Any]]:
        return list(self.body["branches"])

    @property
    def fusion(self) -> dict[str, Any]:
        return dict(self.body["fusion"])

    @property
    def rerank(self) -> dict[str, Any] | None:
        return dict(self.body["rerank"]) if self.body["rerank"] else None

    @property
    def select(self) -> dict[str, Any]:
        return dict(self.body["select"])

    @property
    def stages(self) -> list[str]:
        """Stages that have a ranking: the branches, then fused, reranked (if any) and context."""
        middle = ["fused", "reranked"] if self.rerank else ["fused"]
        return [branch["id"] for branch in self.branches] + middle + ["context"]

    @property
    def passed_by_fusion(self) -> int:
        """How many fused chunks go on: the reranker's shortlist, or what the context takes."""
        after = self.rerank["shortlist"] if self.rerank else self.select["k"]
        return int(min(after, self.fusion["depth"]))

    @property
    def remarks(self) -> list[str]:
        """Settings that are allowed and cannot do what they say, each with its field."""
        found = []
        if self.select["k"] > self.passed_on:
            field = "rerank.shortlist" if self.rerank else "fusion.depth"
            found.append(
                f"select.k: {self.select['k']} is above {field}, {self.passed_on}; "
                "no more passages than that come so far"
            )
        silent = [branch["id"] for branch in self.branches if self.fusion["weights"].get(branch["id"], 1) == 0]
        return found + [f"fusion.weights.{name}: 0, so this branch is asked and gives nothing" for name in silent]

    @property
    def passed_on(self) -> int:
        """How many chunks come to the context at most; a shortlist is never longer than the fused list."""
        return int(self.rerank["shortlist"] if self.rerank else self.fusion["depth"])

    @property
    def fingerprint(self) -> str:
        """Digest of all settings; the name is not one."""
        return fingerprint({key: value for key, value in self.body.items() if key != "name"})


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


def _problems(body: Any) -> Iterator[str]:
    """Every mistake in the recipe; fills in defaults on the way."""
    yield from (found := list(_against(SCHEMA, body, "")))
    if found:
        return
    yield from chunking_problems(body["chunking"])
    for number, branch in enumerate(body["branches"]):
        found += (wrong := list(_branch_problems(branch, f"branches[{number}]")))
        yield from wrong
    found += (wrong := list(_by_choice(FUSION, body["fusion"], "fusion", "method")))
    yield from wrong
    if found:
        return
    fusion, rerank = body["fusion"], body["rerank"]
    seen: list[str] = []
    for number, branch in enumerate(body["branches"]):
        if branch["id"] in seen or branch["id"] in RESERVED:
            why = "stands for another branch" if branch["id"] in seen else "is the name of a stage"
            yield f"branches[{number}].id: {branch['id']!r} {why} already; take another one"
        seen.append(branch["id"])
    for key in fusion["weights"]:
        if key not in seen:
            yield f"fusion.weights.{key}: no branch has this id; there are {', '.join(seen)}"
    if all(fusion["weights"].get(identity, 1) == 0 for identity in seen):
        yield "fusion.weights: all are 0; at least one must be positive"
    if rerank and rerank["shortlist"] > fusion["depth"]:
        yield f"rerank.shortlist: {rerank['shortlist']} is above fusion.depth, {fusion['depth']}"


def _branch_problems(branch: Any, path: str) -> Iterator[str]:
    yield from (found := list(_by_choice(BRANCHES, branch, path, "kind")))
    if found:
        return
    if branch["kind"] == "vector":
        yield from _by_choice(STRUCTURES, branch["structure"], f"{path}.structure", "kind")
        return
    if branch["fields"] and branch["variant"] != OKAPI:
        yield f"{path}.fields: go with the variant {OKAPI} only, not with {branch['variant']}"
    if branch["fields"] and not any(given["weight"] for given in branch["fields"].values()):
        yield f"{path}.fields: all weights are 0; at least one must be positive"
    own = [given["analysis"] for given in (branch["fields"] or {}).values() if given["analysis"]]
    for analysis in [branch["analysis"], *own]:
        yield from _analysis_problems(analysis, f"{path}.analysis")


def _analysis_problems(analysis: dict[str, Any], path: str) -> Iterator[str]:
    yield from _gram_problems(analysis, path)
    yield from _synonym_problems(analysis["synonyms"], f"{path}.synonyms")


def _synonym_problems(groups: list[Any], path: str) -> Iterator[str]:
    if len(groups) > GROUPS:
        yield f"{path}: {len(groups):,} groups; {GROUPS:,} are allowed"
        return
    for number, group in enumerate(groups):
        where = f"{path}[{number}]"
        if not isinstance(group, list):
            yield f"{where}: {_shown(group)} is not {TYPES['array']}"
        elif not 2 <= len(group) <= LONGEST_GROUP:
            yield f"{where}: {len(group)} words or phrases; a group has 2 to {LONGEST_GROUP}"
        else:
            for place, word in enumerate(group):
                if not isinstance(word, str):
                    yield f"{where}[{place}]: {_shown(word)} is not {TYPES['string']}"
                elif not 1 <= len(word) <= LONGEST_WORD:
                    yield f"{where}[{place}]: {len(word)} characters; 1 to {LONGEST_WORD} are allowed"


def _gram_problems(analysis: dict[str, Any], path: str) -> Iterator[str]:
    grams = analysis["grams"]
    if grams and grams["from"] > grams["to"]:
        yield f"{path}.grams.from: {grams['from']} is above grams.to, {grams['to']}"


def check_analysis(body: Any) -> dict[str, Any]:
    """Check the analysis of a sparse branch on its own and fill in what it leaves out.

    Raises
    ------
    RecipeError
        Names the field, what stands there and what is allowed.
    """
    body = _copied(body, "analysis")
    problems = list(_against(_ANALYSIS, body, "analysis")) or list(_analysis_problems(body, "analysis"))
    if problems:
        raise RecipeError("; ".join(problems))
    return dict(body)


def check_chunking(body: Any) -> dict[str, Any]:
    """Check the chunking part of a recipe on its own and fill in what it leaves out.

    Raises
    ------
    RecipeError
        Names the field, what stands there and what is allowed.
    """
    body = _copied(body, "chunking")
    problems = list(chunking_problems(body))
    if problems:
        raise RecipeError("; ".join(problems))
    return dict(body)


def chunking_problems(chunking: Any) -> Iterator[str]:
    """Every mistake in the chunking part; fills in defaults on the way."""
    yield from (found := list(_by_choice(CHUNKING, chunking, "chunking", "rule")))
    if found:
        return
    size, minimum, host = chunking["size"], chunking["minimum"], chunking["host"]
    if chunking["rule"] not in (rules.SENTENCES, rules.TOPIC) and chunking["overlap"] >= size:
        yield f"chunking.overlap: {chunking['overlap']} is not below chunking.size, {size}"
    if minimum > size:
        yield f"chunking.minimum: {minimum} is above chunking.size, {size}"
    if host and host["size"] < size:
        yield f"chunking.host.size: {host['size']} is below chunking.size, {size}"


def _by_choice(choices: dict[str, Any], value: Any, path: str, key: str) -> Iterator[str]:
    if not isinstance(value, dict):
        yield f"{path}: {_shown(value)} is not an object"
    elif key not in value:
        yield f"{path}.{key}: missing; allowed are {', '.join(choices)}"
    elif not isinstance(value[key], str) or value[key] not in choices:
        yield f"{path}.{key}: {_shown(value[key])} is not one of {', '.join(choices)}"
    else:
        yield from _against(choices[value[key]], value, path)


def _against(schema: dict[str, Any], value: Any, path: str) -> Iterator[str]:
    errors = sorted(Draft202012Validator(schema).iter_errors(value), key=lambda error: list(map(str, error.path)))
    for error in errors:
        yield from _message(error, path)
    if not errors:
        _fill(schema, value)


def _fill(schema: dict[str, Any], value: Any) -> None:
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


def _message(error: ValidationError, base: str) -> Iterator[str]:
    rule, wanted, found = error.validator, error.validator_value, error.instance
    path = base
    for step in error.absolute_path:
        path += f"[{step}]" if isinstance(step, int) else f".{step}" if path else str(step)
    schema: Any = error.schema
    if rule == "anyOf":
        # What is wrong is what the alternative of the same type says.
        fitting = [sub for sub in error.context or [] if sub.validator != "type" or len(sub.path)]
        allowed = " or ".join(TYPES[choice["type"]] for choice in wanted)
        if fitting:
            for sub in fitting:
                yield from _message(sub, base)
        else:
            yield f"{path}: {_shown(found)} is not {allowed}"
    elif rule == "additionalProperties":
        for key in sorted(set(found) - set(schema["properties"])):
            yield f"{path + '.' if path else ''}{key}: unknown key; allowed are {', '.join(schema['properties'])}"
    elif rule == "required":
        for key in wanted:
            if key not in found and re.search(rf"'{re.escape(key)}'", error.message):
                yield f"{path + '.' if path else ''}{key}: missing"
    elif rule in ("minimum", "maximum"):
        low, high = schema.get("minimum"), schema.get("maximum")
        yield f"{path}: {_shown(found)} is not between {low} and {high}"
    elif rule == "enum":
        yield f"{path}: {_shown(found)} is not {'one of ' if len(wanted) > 1 else ''}{', '.join(map(str, wanted))}"
    elif rule == "type":
        kinds = [wanted] if isinstance(wanted, str) else wanted
        yield f"{path or 'recipe'}: {_shown(found)} is not {' or '.join(TYPES[kind] for kind in kinds)}"
    elif rule == "pattern":
        yield f"{path}: {_shown(found)} is not a short name of small letters, digits and hyphens"
    else:
        yield f"{path}: {error.message}"


def _shown(value: Any) -> str:
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 60 else text[:57] + "..."
