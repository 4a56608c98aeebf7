"""Judging: every manual, as a whole corpus under each cut, by the scorer that has not seen it."""

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from doppio.core.branches.sparse.building import build_postings
from doppio.core.branches.sparse.index import Segment, SparseIndex, unfound_share
from doppio.core.branches.sparse.terms import terms_of
from doppio.core.models.registry import Models
from doppio.core.progress import Progress
from doppio.core.recipe.check import check
from doppio.core.text.analysis import Analysis
from training.known import facts
from training.manuals import FOLDS
from training.mining import CUTS, Mined, recipe_of
from training.report import report, tables
from training.scoring import Row, rows

BRANCH = check(recipe_of(next(iter(CUTS)))).branches[0]


def judge(weights: Path, place: Path, mined: Sequence[Mined], models: Models, progress: Progress) -> None:
    """Score, choose, weigh, calibrate, and write `judged.json` and the tables."""
    found = [row for fold in range(FOLDS) for row in rows(weights, place, mined, fold, progress)]
    known = {key: iter(values) for key, values in facts(place, mined, models, progress).items()}
    found = [replace(row, facts=next(known[row.manual, row.cut])) for row in found]
    body = report(found, unfound_in(mined))
    (place / "judged.json").write_text(json.dumps(body, indent=1))
    (place / "judged.md").write_text(tables(body) + "\n")
    print(tables(body))


def unfound_in(mined: Sequence[Mined]) -> Callable[[Row], float]:
    """The share of a question's terms that its corpus does not hold."""
    indexes = {
        (one.manual, one.cut): SparseIndex(
            [Segment(build_postings(one.passages, len(one.passages), Analysis.of(BRANCH["analysis"])))]
        )
        for one in mined
    }
    return lambda row: unfound_share(indexes[row.manual, row.cut], terms_of(BRANCH, row.question.text))
