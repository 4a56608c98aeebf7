"""Weights of what is known of a passage, fitted to labelled questions: listwise, held near what they begin from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

Floats = NDArray[np.float64]
# How strongly weights are held where they begin, in questions; the labels themselves choose among these.
PULLS = (1.0, 3.0, 10.0, 30.0, 100.0, 300.0, 1000.0)
FOLDS = 5
HIDDEN = -1e9


@dataclass(frozen=True)
class Listed:
    """The shortlist of one question.

    facts : (n, f) float64, what is known of each passage
    right : (n,) bool, whether it answers
    """

    facts: Floats
    right: NDArray[np.bool_]


@dataclass(frozen=True)
class Fitted:
    """What was fitted.

    weights : (f,) float64
    pull : how strongly they were held
    held_out : of each question (n,) float64, the scores of its passages by weights that had not seen it
    """

    weights: Floats
    pull: float
    held_out: tuple[Floats, ...]


@dataclass(frozen=True)
class Among:
    """What was chosen among several ways of telling what is known.

    choice : which of them
    weights : (f,) float64
    pull : how strongly they were held
    part : (q,) int64, the fold of each question
    by_fold : of each fold the choice and the weights of the questions outside of it
    """

    choice: int
    weights: Floats
    pull: float
    part: NDArray[np.int64]
    by_fold: tuple[tuple[int, Floats], ...]


def fit_weights(listed: Sequence[Listed], start: Floats, pull: float, *, least: float | None = None) -> Floats:
    """Weights w that put passages which answer before others.

    Parameters
    ----------
    listed : sequence of Listed
        Questions none of whose passages answer, or all, have no part in it.
    start : (f,) float64 array
        Where the weights begin and are pulled to.
    pull : float
        In questions: with as many labelled ones, labels and start weigh about alike.
    least : float or None
        No weight falls below it.

    Returns
    -------
    (f,) float64 array

    Notes
    -----
    Minimises sum over questions of -log(sum of exp(w.x) over passages that answer / over all of them)
    + pull / 2 x |w - start|^2: the likelihood that a passage drawn by the scores answers, with a ridge.

    References
    ----------
    .. [1] Z. Cao and others, "Learning to Rank: From Pairwise Approach to Listwise Approach", ICML 2007, whose
       top-one probabilities these are.
    """
    return _fit(_Padded.of(listed), start, pull, least)


def _fit(padded: "_Padded", start: Floats, pull: float, least: float | None) -> Floats:
    if not len(padded.facts):
        return start.copy()

    def loss(weights: Floats) -> tuple[float, Floats]:
        told, slope = padded.surprise(weights)
        away = weights - start
        return told + pull / 2 * float(away @ away), slope + pull * away

    bounds = None if least is None else [(least, None)] * len(start)
    return np.asarray(scipy.optimize.minimize(loss, start, jac=True, method="L-BFGS-B", bounds=bounds).x, np.float64)


def fit_honestly(
    listed: Sequence[Listed],
    start: Floats,
    *,
    pulls: Sequence[float] = PULLS,
    folds: int = FOLDS,
    seed: int = 0,
    groups: NDArray[np.int64] | None = None,
) -> Fitted:
    """Fit, choose how strongly to hold, and score every question by weights that have not seen it.

    See `fit_among`.
    """
    found = fit_among([listed], [start], pulls=pulls, folds=folds, seed=seed, groups=groups)
    held = [one.facts @ found.by_fold[fold][1] for one, fold in zip(listed, found.part.tolist(), strict=True)]
    return Fitted(found.weights, found.pull, tuple(held))


def fit_among(
    ways: Sequence[Sequence[Listed]],
    starts: Sequence[Floats],
    *,
    pulls: Sequence[float] = PULLS,
    folds: int = FOLDS,
    seed: int = 0,
    groups: NDArray[np.int64] | None = None,
    least: float | None = None,
) -> Among:
    """Fit, and choose among ways of telling what is known and how strongly to hold.

    Parameters
    ----------
    ways : of each way the same q questions
    starts : of each way (f,) float64, where its weights begin
    pulls, folds, seed
    groups : (q,) int64 array or None
        Questions of one group are rewordings of each other and are never split.
    least : see `fit_weights`

    Notes
    -----
    Nested cross-validation over questions: within what is left of each fold way and pull are chosen by another
    cross-validation, so neither the weights nor the choice have seen the question that they are judged by. The way
    and the pull of the weights that are returned are chosen by all questions.

    References
    ----------
    .. [1] S. Varma, R. Simon, "Bias in error estimation when using cross-validation for model selection", BMC
       Bioinformatics 7, 2006.
    """
    count = len(ways[0])
    of = np.arange(count) if groups is None else groups
    part = _parts(of, folds, seed)
    by_fold = []
    for left in range(min(folds, count)):
        outside = np.flatnonzero(part != left)
        others = [[listed[row] for row in outside.tolist()] for listed in ways]
        inner = of[outside]
        choice, pull = _best(others, starts, pulls, folds, seed + 1 + left, inner, least)
        by_fold.append((choice, fit_weights(others[choice], starts[choice], pull, least=least)))
    choice, pull = _best(ways, starts, pulls, folds, seed, of, least)
    return Among(choice, fit_weights(ways[choice], starts[choice], pull, least=least), pull, part, tuple(by_fold))


def _best(
    ways: Sequence[Sequence[Listed]],
    starts: Sequence[Floats],
    pulls: Sequence[float],
    folds: int,
    seed: int,
    groups: NDArray[np.int64],
    least: float | None,
) -> tuple[int, float]:
    """The way and the pull that tell most of unseen questions; the first and the strongest where all are alike."""
    part = _parts(groups, folds, seed)
    strongest_first = sorted(pulls, reverse=True)
    told = np.zeros((len(ways), len(strongest_first)))
    for way, (listed, start) in enumerate(zip(ways, starts, strict=True)):
        for left in np.unique(part).tolist():
            others, own = (
                _Padded.of([one for one, at in zip(listed, part, strict=True) if (at == left) == held])
                for held in (False, True)
            )
            for row, pull in enumerate(strongest_first):
                told[way, row] += own.surprise(_fit(others, start, pull, least))[0]
    best, held = divmod(int(np.argmin(told)), len(strongest_first))
    return best, float(strongest_first[held])


def scaled_to(listed: Sequence[Listed], shares: Floats) -> Floats:
    """Shares times the one factor under which the labels are likeliest."""
    found = scipy.optimize.minimize_scalar(
        lambda at: surprise(listed, shares * np.exp(at)), bounds=(-4, 4), method="bounded"
    )
    return np.asarray(shares * np.exp(found.x), np.float64)


def surprise(listed: Sequence[Listed], weights: Floats) -> float:
    """Sum over questions of -log of the likelihood that a passage drawn by the scores answers."""
    return _Padded.of(listed).surprise(weights)[0]


def _parts(groups: NDArray[np.int64], folds: int, seed: int) -> NDArray[np.int64]:
    """The fold of each question; folds hold about as many groups."""
    names, of = np.unique(groups, return_inverse=True)
    fold: NDArray[np.int64] = np.random.default_rng(seed).permutation(np.arange(len(names)) % max(folds, 1))
    return fold[of]


@dataclass(frozen=True)
class _Padded:
    """Questions with something to choose: facts (questions, most, f), which places are real, and which answer."""

    facts: Floats
    real: NDArray[np.bool_]
    right: NDArray[np.bool_]

    @classmethod
    def of(cls, listed: Sequence[Listed]) -> "_Padded":
        told = [one for one in listed if one.right.any() and not one.right.all()]
        most = max((len(one.right) for one in told), default=0)
        facts = np.zeros((len(told), most, listed[0].facts.shape[1] if listed else 0))
        real, right = np.zeros((len(told), most), bool), np.zeros((len(told), most), bool)
        for row, one in enumerate(told):
            count = len(one.right)
            facts[row, :count], real[row, :count], right[row, :count] = one.facts, True, one.right
        return cls(facts, real, right)

    def surprise(self, weights: Floats) -> tuple[float, Floats]:
        """Sum over questions of -log(sum of exp(w.x) over what answers / over all), and its slope."""
        if not len(self.facts):
            return 0.0, np.zeros(len(weights))
        scores = np.where(self.real, self.facts @ weights, HIDDEN)
        answering = np.where(self.right, scores, HIDDEN)
        top, best = scores.max(axis=1, keepdims=True), answering.max(axis=1, keepdims=True)
        odds, good = np.exp(scores - top), np.exp(answering - best)
        whole, of_right = odds.sum(axis=1, keepdims=True), good.sum(axis=1, keepdims=True)
        told = float(np.sum(top + np.log(whole) - best - np.log(of_right)))
        share = odds / whole - good / of_right
        return told, share.reshape(-1) @ self.facts.reshape(-1, self.facts.shape[2])
