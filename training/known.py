"""Plain facts of the pairs that scorers are judged by, as the product finds them; kept as they are made."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.reranking.facts.kind import FACTS, Floats, Shortlist
from training.corpora import corpus
from training.manuals import MANUALS, read
from training.mining import SHORTLIST, Mined, Question, built, late_of
from training.scoring import judged

NAMES = tuple(kind.name for kind in FACTS)
Known = dict[tuple[str, str], list[Floats]]


def facts(
    place: Path, mined: Sequence[Mined], models: Models, progress: Progress
) -> dict[tuple[str, str], list[Floats]]:
    """Of each manual and cut, for each judged question: (n, f) float64, a column for each of `NAMES`."""
    found: Known = {}
    progress.start("facts", len(mined), "manuals and cuts")
    for one in mined:
        kept = place / "facts" / f"{one.manual}, {one.cut}, {'-'.join(NAMES)}.npz"
        if not kept.exists():
            _make(kept, one, place, models)
        with np.load(kept) as arrays:
            bounds = np.cumsum(arrays["counts"])[:-1]
            found[one.manual, one.cut] = np.split(arrays["values"], bounds)
        progress.advance(1)
    return found


def _make(kept: Path, mined: Mined, place: Path, models: Models) -> None:
    manual = next(one for one in MANUALS if one.package == mined.manual)
    whole = corpus(list(read(manual, place / "manuals")), manual.title)
    pipeline = built(whole, mined.cut, place / "indexes", models, Silent())
    values = [facts_of(pipeline, question) for _, question in judged(mined)]
    kept.parent.mkdir(parents=True, exist_ok=True)
    draft = kept.with_suffix(".draft.npz")
    np.savez(draft, values=np.concatenate(values), counts=[len(one) for one in values])
    draft.replace(kept)


def facts_of(pipeline: Pipeline, question: Question) -> Floats:
    """(n, f) float64 of the shortlist of a question."""
    chunks = question.chunks[:SHORTLIST].tolist()
    candidates = pipeline.candidates(chunks, headed=True)
    late = late_of(pipeline)
    asked, weights, held = late.tokens(question.text, chunks)
    above = late.encoder.token_ids([" ".join((one.title, *one.headings)) for one in candidates])
    first = slice(0, len(chunks))
    branches = {"sparse": question.sparse[first], "dense": question.dense[first]}
    shortlist = Shortlist(question.text, candidates, question.fused[first], branches, asked, weights, held, above)
    return np.stack([kind.of(shortlist) for kind in FACTS], axis=1)
