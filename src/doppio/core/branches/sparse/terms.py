"""The settings and the questions of a sparse branch, in the terms of its index."""

import threading
from collections import OrderedDict
from collections.abc import Mapping
from typing import Any

from doppio.core.branches.query import Query
from doppio.core.branches.sparse.fields import FIELDS, FieldWeight
from doppio.core.branches.sparse.weighting import LONG, PLUS, Weighting
from doppio.core.text.analysis import Analysis, Term

# The papers' own values of the least that a term adds.
DELTA = {PLUS: 1.0, LONG: 0.5}


def weighting_of(branch: Mapping[str, Any]) -> Weighting:
    """The weighting that a branch asks for."""
    delta = branch["delta"] if branch["delta"] is not None else DELTA.get(branch["variant"], 1.0)
    return Weighting(branch["variant"], branch["k1"], branch["b"], delta, branch["mu"])


def terms_of(branch: Mapping[str, Any], text: str) -> list[str]:
    """Terms of a question."""
    return [term.text for term in asked_terms(branch["analysis"], text)]


def weighed_terms(branch: Mapping[str, Any], query: Query) -> list[str] | dict[str, float]:
    """Terms of a question, each with its weight where the question has words of its own."""
    if query.words is None:
        return terms_of(branch, query.text)
    found: dict[str, float] = {}
    for word, weight in query.words.items():
        for term in terms_of(branch, word):
            found[term] = found.get(term, 0.0) + weight
    return found


def weighed_fielded_terms(branch: Mapping[str, Any], query: Query) -> tuple[list[dict[str, str]], list[float] | None]:
    """The same by the names that terms have in every field."""
    if query.words is None:
        return fielded_terms(branch, query.text), None
    both = [(forms, weight) for word, weight in query.words.items() for forms in fielded_terms(branch, word)]
    return [forms for forms, _ in both], [weight for _, weight in both]


def asked_terms(settings: Mapping[str, Any], text: str) -> tuple[Term, ...]:
    """Terms of a question by the analysis of a recipe; worked out once for all branches, stages and views."""
    return analysis_of(settings).asked(text)


def analysis_of(settings: Mapping[str, Any]) -> Analysis:
    """The analysis that a recipe's settings ask for, made once for a recipe."""
    return _known.analysis(settings)


class _Known:
    """The analyses asked by lately. A recipe's settings are told by being the same object: it may hold a quarter of
    a million synonyms, which nobody compares for every question."""

    def __init__(self, kept: int = 32) -> None:
        self._kept = kept
        self._lock = threading.Lock()
        self._held: OrderedDict[int, tuple[Mapping[str, Any], Analysis]] = OrderedDict()

    def analysis(self, settings: Mapping[str, Any]) -> Analysis:
        key = id(settings)
        with self._lock:
            if key not in self._held:
                self._held[key] = settings, Analysis.of(settings)
            self._held.move_to_end(key)
            while len(self._held) > self._kept:
                self._held.popitem(last=False)
            return self._held[key][1]


_known = _Known()


def field_weights(branch: Mapping[str, Any]) -> dict[str, FieldWeight]:
    """How much each field of a branch counts."""
    return {name: FieldWeight(given["weight"], given["b"]) for name, given in branch["fields"].items()}


def fielded_terms(branch: Mapping[str, Any], text: str) -> list[dict[str, str]]:
    """Terms of a question, each by the name that it has in every field.

    Notes
    -----
    Fields that are analysed differently give the same word different terms; those that come from the same place of
    the question, in the same order, belong together.
    """
    found: dict[tuple[int, int, int], dict[str, str]] = {}
    for name in FIELDS:
        if name not in branch["fields"]:
            continue
        seen: dict[tuple[int, int], int] = {}
        for term in asked_terms(branch["fields"][name]["analysis"] or branch["analysis"], text):
            span = (term.start, term.end)
            seen[span] = seen.get(span, 0) + 1
            found.setdefault((*span, seen[span]), {})[name] = term.text
    return [found[place] for place in sorted(found)]
