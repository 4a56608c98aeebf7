"""What a fact is: a number for every passage of a shortlist, which depends on nothing that stands beside it there."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind
from doppio.core.reranking.windowed import Candidate

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Shortlist:
    """What facts are made of, for n passages of one question.

    question : str
    candidates : the passages
    fused : (n,) float64, scores of the mix
    branches : by "sparse" and "dense" (n,) float64, the best score of such a branch; NaN where none found it
    asked : (q,) int64, tokens of the question
    weights : (q,) float64, their inverse document frequencies, adding up to 1
    held : of each passage int64, tokens of its text as it is indexed
    above : of each passage int64, tokens of the document's title and the headings around it
    """

    question: str
    candidates: Sequence[Candidate]
    fused: Floats
    branches: Mapping[str, Floats]
    asked: Ints
    weights: Floats
    held: Sequence[Ints]
    above: Sequence[Ints]


class Fact(Kind, Protocol):
    """A fact; its module holds one as `KIND`."""

    def of(self, shortlist: Shortlist) -> Floats:
        """(n,) float64; NaN where it is not known, which then counts for nothing."""


FACTS: Family[Fact] = Family("facts", "doppio.core.reranking.facts", Fact)


def share_in(shortlist: Shortlist, tokens: Sequence[Ints]) -> Floats:
    """Of each passage the share of the question's tokens, by weight, that stand among some tokens."""
    return np.array([float(shortlist.weights[np.isin(shortlist.asked, own)].sum()) for own in tokens], np.float64)
