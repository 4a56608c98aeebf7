"""What endpoints are paid for answering: tokens that went out, at the price that each was registered with."""

from collections.abc import Sequence

from doppio.core.measure.trial import Row
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import JointScorer
from doppio.core.pipeline import Pipeline
from doppio.core.trace import FUSED

MILLION, THOUSAND = 1e6, 1e3


def paid(pipeline: Pipeline, counter: Encoder, rows: Sequence[Row]) -> float:
    """Money for 1,000 questions like these; 0 where no endpoint has a price.

    Notes
    -----
    Prices are for a million tokens. Tokens are counted by the encoder that chunks are measured with, so those of an
    endpoint with another tokenizer are near and not exact. An encoder reads the question, a scorer the question and
    every passage of the shortlist.
    """
    encoding = {
        branch.encoder.name: float(getattr(branch.encoder, "price", 0.0))
        for branch in pipeline.branches.values()
        if branch.encoder is not None
    }
    scoring = sum(_prices(part.scorer) for part in pipeline.reranker.parts) if pipeline.reranker else 0.0
    each = sum(encoding.values())
    if not rows or not (each or scoring):
        return 0.0
    asked = counter.token_counts([row.trace.question for row in rows])
    spent = float(each * asked.sum())
    if scoring:
        for row, tokens in zip(rows, asked.tolist(), strict=True):
            shortlist = row.trace.stage(FUSED).passed
            spent += scoring * (tokens * len(shortlist) + float(pipeline.chunks.tokens[shortlist].sum()))
    return spent / MILLION * THOUSAND / len(rows)


def _prices(scorer: JointScorer) -> float:
    """Of a scorer, or of all that a fitted one weighs."""
    known = getattr(scorer, "known", None)
    if known is not None:
        return sum(_prices(part.scorer) for part in known.scorers.parts)
    return float(getattr(scorer, "price", 0.0))
