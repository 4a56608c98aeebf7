"""What scorers are worth on manuals that they have not seen; every choice is made on others than it is told of."""

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.special import expit

from doppio.core.measure.calibrating import slope_and_offset
from doppio.core.measure.significance import paired_randomisation
from doppio.core.models.answerable import Answerable, facts_of
from doppio.core.models.scorer_folder import Calibration
from doppio.core.reranking.combining import standardised
from training.details import DETAIL
from training.manuals import FOLDS
from training.mining import CUTS
from training.scoring import ABSENT, HEADING, Floats, Row
from training.weighing import WEIGHINGS, held_out, weights_of

# Weight of late interaction beside the joint scorer's 1, and the share of the fused score.
LATES, BLENDS = (0.0, 0.15, 0.3, 0.5, 0.75, 1.0), (0.0, 0.15, 0.3, 0.5, 0.75, 1.0)
CUTOFFS = (1, 5)
KEPT = 0.97
BINS = 10
NONE = 10_000
Chosen = tuple[float, float]


def figures(first: NDArray[np.int64]) -> dict[str, float]:
    """Recall and mean reciprocal rank of questions by the rank of their first right passage."""
    if not len(first):
        return {"questions": 0, **{f"recall@{k}": 0.0 for k in CUTOFFS}, "mrr": 0.0}
    found = {f"recall@{k}": float((first <= k).mean()) for k in CUTOFFS}
    return {"questions": len(first), **found, "mrr": float(np.where(first < NONE, 1 / first, 0).mean())}


@dataclass(frozen=True)
class Table:
    """Rows as arrays (q, most), what is beyond a shortlist being hidden: standardised scores, and what answers."""

    scores: dict[str, Floats]
    right: NDArray[np.bool_]
    real: NDArray[np.bool_]

    @classmethod
    def of(cls, rows: Sequence[Row]) -> "Table":
        most = max((len(row.right) for row in rows), default=0)
        names = rows[0].scores if rows else ("joint", "late", "fused")
        scores = {name: np.zeros((len(rows), most)) for name in names}
        right, real = np.zeros((len(rows), most), bool), np.zeros((len(rows), most), bool)
        for place, row in enumerate(rows):
            count = len(row.right)
            right[place, :count], real[place, :count] = row.right, True
            for name, column in scores.items():
                column[place, :count] = standardised(row.scores[name])
        return cls(scores, right, real)

    def take(self, wanted: NDArray[np.bool_]) -> "Table":
        return Table({name: own[wanted] for name, own in self.scores.items()}, self.right[wanted], self.real[wanted])

    def ranks(self, order: Floats) -> NDArray[np.int64]:
        """Of every question the rank of its first passage that answers, from 1; equal scores keep their order."""
        if not order.size:
            return np.full(len(order), NONE)
        shown = np.where(self.real, order, -np.inf)
        of_right = np.where(self.right, shown, -np.inf)
        place, best = of_right.argmax(axis=1), of_right.max(axis=1)
        before = np.arange(order.shape[1]) < place[:, None]
        ahead = (shown > best[:, None]) | ((shown == best[:, None]) & before)
        return np.where(self.right.any(axis=1), 1 + ahead.sum(axis=1), NONE)

    def several(self, chosen: Chosen) -> Floats:
        """Several scorers as the application adds them up; see `combined`."""
        late, blend = chosen
        return (self.scores["joint"] + late * self.scores["late"]) / (1 + late) + blend * self.scores["fused"]


def choose(table: Table, kinds: NDArray[np.str_], lates: Sequence[float] = LATES) -> Chosen:
    """The weight and the share that do best with headings and details together."""

    def worth(chosen: Chosen) -> float:
        first = table.ranks(table.several(chosen))
        found = [figures(first[kinds == kind]) for kind in (HEADING, DETAIL) if (kinds == kind).any()]
        return sum(one["recall@1"] + one["recall@5"] + one["mrr"] for one in found)

    return max(itertools.product(lates, BLENDS), key=worth)


def report(rows: Sequence[Row], unfound: Callable[[Row], float]) -> dict[str, Any]:
    """All figures; `unfound` says what share of a question's terms its corpus does not hold.

    Rows whose facts are known are weighed too, by weights of other folds.
    """
    weighed = [] if any(row.facts is None for row in rows) else list(WEIGHINGS)
    for weighing in weighed:
        rows = held_out(rows, weighing)
    asked = [row for row in rows if row.kind != ABSENT]
    table, kinds = Table.of(asked), np.array([row.kind for row in asked])
    folds = np.array([row.fold for row in asked])
    first = {
        name: table.ranks(table.scores[score]) for name, score in (("mix", "fused"), ("late interaction", "late"))
    }
    chosen: dict[str, dict[int, Chosen]] = {}
    for name, lates in (("joint scorer", (0.0,)), ("several", LATES)):
        chosen[name] = {}
        first[name] = np.zeros(len(asked), np.int64)
        for fold in range(FOLDS):
            own = folds == fold
            chosen[name][fold] = choose(table.take(~own), kinds[~own], lates)
            part = table.take(own)
            first[name][own] = part.ranks(part.several(chosen[name][fold]))
    for weighing in weighed:
        first[weighing.name] = table.ranks(table.scores[weighing.name])

    def of(wanted: Callable[[Row], bool]) -> dict[str, Any]:
        own = np.array([wanted(row) for row in asked])
        return {name: figures(found[own]) for name, found in first.items()}

    heading = np.array([row.kind == HEADING for row in asked])
    manuals = sorted({row.manual for row in asked})
    best = first[weighed[0].name if weighed else "several"]
    gains = {
        manual: float(_reciprocal(best[own]).mean() - _reciprocal(first["mix"][own]).mean())
        for manual in manuals
        for own in [heading & np.array([row.manual == manual for row in asked])]
    }
    return {
        "chosen": {name: {str(fold): pair for fold, pair in own.items()} for name, own in chosen.items()},
        "ships": choose(table, kinds),
        "alone": choose(table, kinds, (0.0,)),
        "together": of(lambda row: True),
        "headings": of(lambda row: row.kind == HEADING),
        "details": of(lambda row: row.kind == DETAIL),
        "cuts": {cut: of(lambda row, cut=cut: row.kind == HEADING and row.cut == cut) for cut in CUTS},
        "manuals": {
            manual: of(lambda row, manual=manual: row.kind == HEADING and row.manual == manual) for manual in manuals
        },
        "manuals_with_a_gain": sum(gain > 0 for gain in gains.values()),
        "p": {
            f"recall@{k}, {kind}": paired_randomisation(best[own] <= k, first["mix"][own] <= k)
            for k in CUTOFFS
            for kind, own in (("headings", heading), ("together", np.ones(len(asked), bool)))
        },
        "pairs": pair_calibration(rows, "joint"),
        "questions": question_calibration(rows, unfound, "joint"),
        "weighed": {
            weighing.name: {
                "weights": weights_of(rows, weighing),
                "pairs": pair_calibration(rows, weighing.name),
                "questions": question_calibration(rows, unfound, weighing.name),
            }
            for weighing in weighed
        },
    }


def _reciprocal(first: NDArray[np.int64]) -> Floats:
    return np.where(first < NONE, 1 / first, 0)


def pair_calibration(rows: Sequence[Row], score: str) -> dict[str, Any]:
    """Slope and offset that turn a score of a pair into a probability, and how far off others' were."""
    scores = np.concatenate([row.scores[score] for row in rows])
    right = np.concatenate([row.right for row in rows])
    fold = np.concatenate([[row.fold] * len(row.right) for row in rows])
    said = np.zeros(len(scores))
    for left in range(FOLDS):
        own = fold == left
        slope, offset = slope_and_offset(scores[~own], right[~own])
        said[own] = expit(scores[own] * slope + offset)
    slope, offset = slope_and_offset(scores, right)
    return {"slope": slope, "offset": offset, **reliability(said, right.astype(np.float64))}


def question_calibration(rows: Sequence[Row], unfound: Callable[[Row], float], score: str) -> dict[str, Any]:
    """A model of whether anything answers, and how it does on manuals that are left out.

    The log-odds of pairs that it reads are those of calibrations without the manuals that it is told of.
    """
    answered = np.array([row.kind != ABSENT for row in rows], np.float64)
    fold = np.array([row.fold for row in rows])
    shares = np.array([unfound(row) for row in rows])

    def facts(slope: float, offset: float, taken: NDArray[np.bool_]) -> Floats:
        calibration = Calibration(slope, offset)
        return np.array([
            facts_of(calibration.logits(row.scores[score]), share)
            for row, share, on in zip(rows, shares.tolist(), taken, strict=True)
            if on
        ])  # fmt: skip

    said = np.zeros(len(rows))
    every = np.ones(len(rows), bool)
    for left in range(FOLDS):
        own = fold == left
        others = [row for row in rows if row.fold != left]
        slope, offset = _pair(others, score)
        weights = logistic(facts(slope, offset, ~own), answered[~own])
        said[own] = expit(facts(slope, offset, own) @ weights[:-1] + weights[-1])
    weights = logistic(facts(*_pair(rows, score), every), answered)
    threshold = float(np.quantile(said[answered > 0], 1 - KEPT))
    return {
        "model": Answerable(weights[:-1], float(weights[-1])).to_json(),
        "threshold": threshold,
        "kept": float((said[answered > 0] >= threshold).mean()),
        "left_empty": float((said[answered == 0] < threshold).mean()),
        **reliability(said, answered),
    }


def _pair(rows: Sequence[Row], score: str) -> tuple[float, float]:
    scores = np.concatenate([row.scores[score] for row in rows])
    return slope_and_offset(scores, np.concatenate([row.right for row in rows]))


def logistic(facts: Floats, truth: Floats, ridge: float = 1.0) -> Floats:
    """Weights and, last, the offset of a logistic model: (f + 1,) float64; facts are standardised for the ridge."""
    centre, spread = facts.mean(axis=0), np.maximum(facts.std(axis=0), 1e-9)
    given = np.hstack([(facts - centre) / spread, np.ones((len(facts), 1))])
    held = np.append(np.full(facts.shape[1], ridge), 0.0)

    def loss(weights: Floats) -> tuple[float, Floats]:
        logits = given @ weights
        total = np.sum(np.logaddexp(0, logits) - truth * logits) + 0.5 * held @ weights**2
        return float(total), given.T @ (expit(logits) - truth) + held * weights

    found = minimize(loss, np.zeros(given.shape[1]), jac=True, method="L-BFGS-B").x
    scaled = found[:-1] / spread
    return np.append(scaled, found[-1] - scaled @ centre)


def reliability(said: Floats, was: Floats) -> dict[str, Any]:
    """How often what was held likely came true: a curve of ten bins, and the expected calibration error.

    References
    ----------
    .. [1] C. Guo and others, "On Calibration of Modern Neural Networks", ICML 2017, for the error.
    """
    bins = np.minimum((said * BINS).astype(int), BINS - 1)
    curve = [
        {"said": float(said[own].mean()), "was": float(was[own].mean()), "count": int(own.sum())}
        for own in (bins == place for place in range(BINS))
        if own.any()
    ]
    error = sum(abs(one["said"] - one["was"]) * one["count"] for one in curve) / max(len(said), 1)
    return {"curve": curve, "error": float(error)}


def tables(found: dict[str, Any]) -> str:
    """The figures as Markdown."""
    names = list(found["headings"])
    keys = ("recall@1", "recall@5", "mrr")
    lines: list[str] = []

    def table(title: str, rows: dict[str, dict[str, Any]]) -> None:
        lines.append(f"| {title} | questions | {' | '.join(f'{key}, {name}' for key in keys for name in names)} |")
        lines.append("|---|" + "--:|" * (1 + len(keys) * len(names)))
        for label, row in rows.items():
            cells = [f"{row[name][key]:.3f}" for key in keys for name in names]
            lines.append(f"| {label} | {row[names[0]]['questions']} | {' | '.join(cells)} |")
        lines.append("")

    table("all", {key: found[key] for key in ("together", "headings", "details")})
    table("headings by cut", found["cuts"])
    table("headings by manual", found["manuals"])
    lines.append(f"chosen {found['chosen']}, ships {found['ships']}; p {found['p']}")
    lines.append(f"manuals with a gain in MRR: {found['manuals_with_a_gain']} of {len(found['manuals'])}")
    for title, own in [("joint scorer", found), *found["weighed"].items()]:
        lines.append(f"{title}:")
        for name in ("pairs", "questions"):
            lines.append(f"{name}: error {own[name]['error']:.4f} {own[name]['curve']}")
        asked = own["questions"]
        lines.append(f"empty below {asked['threshold']:.3f}: {asked['kept']:.3f} of answered kept, "
                     f"{asked['left_empty']:.3f} of the others left empty")  # fmt: skip
    return "\n".join(lines)
