"""Scores that a scorer gives the shortlists of manuals that it has not seen, kept as they are made."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.joint import Passage
from doppio.core.models.scorer_folder import prepare_gated
from doppio.core.progress import Progress
from training.details import DETAIL
from training.mining import SHORTLIST, WINDOWS, Mined, Question

HEADINGS_A_MANUAL, DETAILS_A_MANUAL = 60, 20
HEADING, ABSENT = "heading", "absent"
MAX_TOKENS = 256
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Row:
    """A question of a manual under a cut, with the first of its candidates in the order of the mix.

    kind : "heading", "detail" or "absent", whose section was taken out of the corpus
    scores : by name (n,) float64, what may order them
    right : (n,) whether each answers
    facts : (n, f) float64, what is plainly known of each; None where it was not looked for
    """

    manual: str
    fold: int
    cut: str
    kind: str
    question: Question
    scores: dict[str, Floats]
    right: NDArray[np.bool_]
    facts: Floats | None = None


def judged(mined: Mined) -> list[tuple[str, Question]]:
    """Questions to judge by: the first headings, the first details, and all that nothing answers."""
    headings = [(HEADING, q) for q in mined.questions if q.answerable and q.kind != DETAIL][:HEADINGS_A_MANUAL]
    details = [(DETAIL, q) for q in mined.questions if q.kind == DETAIL][:DETAILS_A_MANUAL]
    return headings + details + [(ABSENT, q) for q in mined.questions if not q.answerable]


def texts_of(mined: Mined, question: Question, size: int | None, depth: int = SHORTLIST) -> list[str]:
    """What a scorer reads of the first candidates: the window that late interaction likes best, or all."""
    found = []
    for row, chunk in enumerate(question.chunks[:depth].tolist()):
        passage, line = mined.passages[chunk], mined.lines[chunk]
        if size is not None:
            start, end = question.windows[size][row]
            passage = passage[start:end]
        found.append(f"{line}\n{passage}" if line else passage)
    return found


def rows(
    weights: Path, place: Path, mined: Sequence[Mined], fold: int, progress: Progress, size: int | None = WINDOWS[0]
) -> list[Row]:
    """Rows of a fold's manuals, scored by the scorer that has not seen them."""
    scorer: CrossEncoder | None = None
    found: list[Row] = []
    own = [one for one in mined if one.fold == fold]
    progress.start(f"score fold {fold}, {size or 'whole'}", len(own), "manuals and cuts")
    for one in own:
        kept = place / f"fold-{fold}" / "scores" / f"{one.manual}, {one.cut}, {size or 'whole'}.json"
        asked = judged(one)
        if not kept.exists():
            scorer = scorer or scorer_of(weights, place / f"fold-{fold}")
            given = [_scored(scorer, question, texts_of(one, question, size)) for _, question in asked]
            kept.parent.mkdir(parents=True, exist_ok=True)
            draft = kept.with_suffix(".draft")
            draft.write_text(json.dumps(given))
            draft.replace(kept)
        for (kind, question), scores in zip(asked, json.loads(kept.read_text()), strict=True):
            found.append(_row(one, kind, question, np.array(scores, np.float64)))
        progress.advance(1)
    return found


def _row(mined: Mined, kind: str, question: Question, joint: Floats) -> Row:
    first = slice(0, len(joint))
    scores = {"joint": joint, "late": question.late[first], "fused": question.fused[first]}
    return Row(mined.manual, mined.fold, mined.cut, kind, question, scores, question.right[first])


def _scored(scorer: CrossEncoder, question: Question, texts: list[str]) -> list[float]:
    scores: list[float] = scorer.score(question.text, [Passage(text) for text in texts]).scores.tolist()
    return scores


def scorer_of(weights: Path, folder: Path) -> CrossEncoder:
    """What a training has learned, as the application runs it."""
    target = folder / "int8"
    if not target.exists():
        fields = {"name": "judged", "title": "judged", "max_tokens": MAX_TOKENS}
        prepare_gated(weights, folder / "learned.safetensors", target, small=True, fields=fields)
    return CrossEncoder(target)
