"""How well the scorer does on manuals that it has not seen, what it does best with, and its calibration."""

import itertools
import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from safetensors.numpy import load_file, save_file
from scipy.optimize import minimize
from scipy.special import expit

from doppio.core.measure.significance import paired_randomisation
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.scorer_folder import prepare_gated
from doppio.core.progress import Progress
from doppio.core.reranking.ordering import blended_scores
from training.details import details
from training.manuals import FOLDS, MANUALS
from training.mining import Mined, Question
from training.sections import QUESTION

HEADINGS_A_MANUAL, DETAILS_A_MANUAL, SHORTLIST = 40, 15, 20
BLENDS = (0.0, 0.1, 0.2, 0.25, 0.3, 0.4, 0.5, 0.75, 1.0)
MATCHES = (10.0, 15.0, 20.0, 30.0, 40.0, 50.0, 60.0)
FOLD = {manual.package: manual.fold for manual in MANUALS}
EVERYTHING = slice(None)
KINDS = {"float32": False, "int8": True}
CUTOFFS = (1, 5)
HALF_A_POINT = 0.005
# Choices that differ by less in the sum of all figures are the same but for chance; recall@5 decides between them,
# because that is what goes on to the assistant.
CHANCE = 0.02
NONE = 10_000
Row = dict[str, Any]
Asking = Callable[[Mined], list[Question]]
Chosen = tuple[float, float]
Grid = dict[Chosen, tuple[dict[str, float], dict[str, float]]]
Floats = NDArray[np.float64]


def judge(weights: Path, place: Path, mined: Sequence[Mined], progress: Progress) -> None:
    """Score the questions of every fold's manuals with the scorer that has not seen them, and report.

    Chosen here, on what no scorer has seen: how much single matches of tokens count and how much of the first stage
    is added, on headings and details alike; and the precision, on headings.
    """
    rows, details, whole = (
        [row for fold in range(FOLDS) for row in _rows(weights, place, mined, fold, kind, asking, progress)]
        for kind, asking in (("int8", _headings), ("int8", _details), ("float32", _headings))
    )
    grid = _grid(rows, details)
    chosen = _chosen(grid)
    found = {"int8": _figures(rows, chosen), "float32": _figures(whole, chosen)}
    keeps = all(found["int8"][f"recall@{k}"] >= found["float32"][f"recall@{k}"] - HALF_A_POINT for k in CUTOFFS)
    rows = rows if keeps else whole
    report: dict[str, Any] = {
        "matches": chosen[0],
        "blend": chosen[1],
        "precision": {**found, "chosen": "int8" if keeps else "float32"},
        "mix": _figures(rows, None),
        "reranked": _figures(rows, chosen),
        "details": {"mix": _figures(details, None), "reranked": _figures(details, chosen)},
        "grid": {f"{matches:g} {blend:g}": both for (matches, blend), both in grid.items()},
        "chosen_elsewhere": _chosen_elsewhere(rows, details),
        "manuals": {
            m.package: {"mix": _figures(own, None), "reranked": _figures(own, chosen)}
            for m in MANUALS
            if (own := [row for row in rows if row["manual"] == m.package])
        },
        "p": {f"recall@{k}": paired_randomisation(_hits(rows, chosen, k), _hits(rows, None, k)) for k in CUTOFFS},
        "calibration": calibrate(rows, chosen),
    }
    (place / "judged.json").write_text(json.dumps(report, indent=1))
    print(table(report))


def _grid(rows: Sequence[Row], details: Sequence[Row]) -> Grid:
    """Figures of headings and of details with everything that can be chosen."""
    return {pair: (_figures(rows, pair), _figures(details, pair)) for pair in itertools.product(MATCHES, BLENDS)}


def _chosen(grid: Grid) -> Chosen:
    """How much single matches count and how much of the first stage is added."""
    worth = {pair: sum(map(_worth, both)) for pair, both in grid.items()}
    near = [pair for pair in grid if worth[pair] >= max(worth.values()) - CHANCE]
    return max(near, key=lambda pair: (grid[pair][0]["recall@5"], worth[pair]))


def _chosen_elsewhere(rows: Sequence[Row], details: Sequence[Row]) -> dict[str, Any]:
    """Figures of every fold with what was chosen on the others: no choice was made on what it is judged by."""
    first: list[int] = []
    pairs: list[Chosen] = []
    for left in range(FOLDS):
        others = [[row for row in kind if FOLD[row["manual"]] != left] for kind in (rows, details)]
        pairs.append(_chosen(_grid(*others)))
        first += [_first(row, pairs[-1]) for row in rows if FOLD[row["manual"]] == left]
    return {**_of_ranks(np.array(first)), "chosen": pairs}


def _headings(manual: Mined) -> list[Question]:
    """Headings to judge by, those that ask something first."""
    return sorted(manual.questions, key=lambda q: q.kind != QUESTION)[:HEADINGS_A_MANUAL]


def _details(manual: Mined) -> list[Question]:
    """Details to judge by; their shortlists are those of the sparse index alone."""
    return details(manual)[:DETAILS_A_MANUAL]


def _rows(
    weights: Path, place: Path, mined: Sequence[Mined], fold: int, kind: str, asking: Asking, progress: Progress
) -> list[Row]:
    """Scores of the questions of a fold's manuals; kept, so that a stop loses one fold's at most."""
    name = f"{asking.__name__.strip('_')}, {kind}"
    kept = place / f"fold-{fold}" / f"{name}.json"
    if kept.exists():
        found: list[Row] = json.loads(kept.read_text())
        return found
    scorer = _scorer(weights, place / f"fold-{fold}", kind)
    asked = [(manual, question) for manual in mined if manual.fold == fold for question in asking(manual)]
    rows: list[Row] = []
    progress.start(f"judge fold {fold}, {name}", len(asked), "questions")
    for manual, question in asked:
        shortlist = question.ranked[:SHORTLIST]
        raw, best = _both(scorer, question.text, [manual.passages[chunk] for chunk in shortlist])
        rows.append({
            "manual": manual.manual, "question": question.text, "raw": raw, "best": best,
            "mix": question.scores[:SHORTLIST].tolist(), "right": np.isin(shortlist, question.right).tolist(),
        })  # fmt: skip
        progress.advance(1)
    kept.write_text(json.dumps(rows))
    return rows


def _scorer(weights: Path, folder: Path, kind: str) -> CrossEncoder:
    """What a fold has learned as a scorer, single matches left out of its score."""
    if not (folder / kind).exists():
        learned = folder / "judged.safetensors"
        save_file({**load_file(folder / "learned.safetensors"), "matches": np.zeros((), np.float32)}, learned)
        fields = {"name": "judged", "title": "judged", "max_tokens": 256}
        prepare_gated(weights, learned, folder / kind, small=KINDS[kind], fields=fields)
    return CrossEncoder(folder / kind)


def _both(scorer: CrossEncoder, question: str, texts: list[str]) -> tuple[list[float], list[float]]:
    """The score without single matches, and those."""
    found = np.zeros((2, len(texts)))
    outputs = ["score", "best"]
    for place, both in scorer.each_batch(question, texts, lambda given: scorer._session.run(outputs, given)):
        found[:, place] = both
    return found[0].tolist(), found[1].tolist()


def _blended(row: Row, chosen: Chosen, of: slice | NDArray[np.bool_] = EVERYTHING) -> NDArray[np.float32]:
    matches, blend = chosen
    raw = np.array(row["raw"], np.float32) + np.float32(matches) * np.array(row["best"], np.float32)
    return blended_scores(raw[of], np.array(row["mix"], np.float32)[of], blend)


def _first(row: Row, chosen: Chosen | None) -> int:
    """Rank of the first right passage, from 1; the order is the mix's where nothing is chosen."""
    right = np.array(row["right"])
    if chosen is not None:
        right = right[np.argsort(-_blended(row, chosen), kind="stable")]
    return int(right.argmax()) + 1 if right.any() else NONE


def _hits(rows: Sequence[Row], chosen: Chosen | None, k: int) -> Floats:
    return np.array([_first(row, chosen) <= k for row in rows], np.float64)


def _figures(rows: Sequence[Row], chosen: Chosen | None) -> dict[str, float]:
    return _of_ranks(np.array([_first(row, chosen) for row in rows]))


def _of_ranks(first: NDArray[np.int64]) -> dict[str, float]:
    found = {f"recall@{k}": float((first <= k).mean()) for k in CUTOFFS}
    return {"questions": len(first), **found, "mrr": float(np.where(first < NONE, 1 / first, 0).mean())}


def _worth(figures: dict[str, float]) -> float:
    return sum(figures[f"recall@{k}"] for k in CUTOFFS) + figures["mrr"]


def calibrate(rows: Sequence[Row], chosen: Chosen) -> dict[str, Any]:
    """Slope and offset that turn blended scores into probabilities, and how well they do on folds left out."""
    scores = np.concatenate([_blended(row, chosen) for row in rows]).astype(np.float64)
    right = np.concatenate([row["right"] for row in rows]).astype(np.float64)
    of = np.concatenate([[FOLD[row["manual"]]] * len(row["raw"]) for row in rows])
    said = np.zeros(len(scores))
    for left in np.unique(of):
        slope, offset = _fitted(scores[of != left], right[of != left])
        said[of == left] = expit(slope * scores[of == left] + offset)
    bins = np.minimum((said * 10).astype(int), 9)
    curve = [
        {
            "said": float(said[bins == b].mean()),
            "was": float(right[bins == b].mean()),
            "pairs": int((bins == b).sum()),
        }
        for b in range(10)
        if (bins == b).any()
    ]
    slope, offset = _fitted(scores, right)
    # A question without an answer: the same shortlist less the right passages.
    bare = [
        float(expit(slope * _blended(row, chosen, wrong).max() + offset))
        for row in rows
        if (wrong := ~np.array(row["right"])).any()
    ]
    best = [
        expit(slope * _blended(row, chosen)[np.array(row["right"])].max() + offset)
        for row in rows
        if any(row["right"])
    ]
    return {
        "slope": slope, "offset": offset, "curve": curve,
        "error": float(sum(abs(c["said"] - c["was"]) * c["pairs"] for c in curve) / len(said)),
        "at_half": {
            "right_kept": float(np.mean(np.array(best) >= 0.5)),
            "unanswerable_empty": float(np.mean(np.array(bare) < 0.5)),
        },
    }  # fmt: skip


def _fitted(scores: Floats, right: Floats) -> tuple[float, float]:
    """Slope and offset with the least cross-entropy."""
    centre, spread = scores.mean(), scores.std()

    def loss(of: Floats) -> float:
        logits = of[0] * (scores - centre) / spread + of[1]
        return float(np.mean(np.logaddexp(0, logits) - right * logits))

    slope, offset = minimize(loss, np.array([1.0, -2.0]), method="BFGS").x
    return float(slope / spread), float(offset - slope * centre / spread)


def table(report: dict[str, Any]) -> str:
    """The figures as a Markdown table."""
    lines = ["| manual | questions | recall@1 mix | reranked | recall@5 mix | reranked | MRR mix | reranked |",
             "|---|--:|--:|--:|--:|--:|--:|--:|"]  # fmt: skip
    for name, found in [*report["manuals"].items(), ("**all**", report)]:
        mix, reranked = found["mix"], found["reranked"]
        cells = [f"{found[key]:.3f}" for key in ("recall@1", "recall@5", "mrr") for found in (mix, reranked)]
        lines.append(f"| {name} | {mix['questions']} | {' | '.join(cells)} |")
    return "\n".join(lines)
