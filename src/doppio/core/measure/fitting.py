"""Weights of what is known of a passage, fitted to labelled questions: listwise, held near what they begin from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

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


def fit_weights(listed: Sequence[Listed], start: Floats, pull: float) -> Floats:
    """Weights w that put passages which answer before others.

    Parameters
    ----------
    listed : sequence of Listed
        Questions none of whose passages answer, or all, have no part in it.
    start : (f,) float64 array
        Where the weights begin and are pulled to.
    pull : float
        In questions: with as many labelled ones, labels and start weigh about alike.

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
    return _fit(_Padded.of(listed), start, pull)


def _fit(padded: "_Padded", start: Floats, pull: float) -> Floats:
    if not len(padded.facts):
        return start.copy()

    def loss(weights: Floats) -> tuple[float, Floats]:
        told, slope = padded.surprise(weights)
        away = weights - start
        return told + pull / 2 * float(away @ away), slope + pull * away

    return np.asarray(minimize(loss, start, jac=True, method="L-BFGS-B").x, np.float64)


def fit_honestly(
    listed: Sequence[Listed], start: Floats, *, pulls: Sequence[float] = PULLS, folds: int = FOLDS, seed: int = 0
) -> Fitted:
    """Fit, choose how strongly to hold, and score every question by weights that have not seen it.

    Notes
    -----
    Nested cross-validation over questions: within what is left of each fold the pull is chosen by another
    cross-validation, so neither the weights nor the choice have seen the question that they are judged by. The pull
    of the weights that are returned is chosen by all questions.

    References
    ----------
    .. [1] S. Varma, R. Simon, "Bias in error estimation when using cross-validation for model selection", BMC
       Bioinformatics 7, 2006.
    """
    part = _parts(len(listed), folds, seed)
    held: list[Floats] = [one.facts @ start for one in listed]
    for left in range(min(folds, len(listed))):
        others = [one for one, at in zip(listed, part, strict=True) if at != left]
        weights = fit_weights(others, start, _best_pull(others, start, pulls, folds, seed + 1 + left))
        for row in np.flatnonzero(part == left).tolist():
            held[row] = listed[row].facts @ weights
    pull = _best_pull(listed, start, pulls, folds, seed)
    return Fitted(fit_weights(listed, start, pull), pull, tuple(held))


def _best_pull(listed: Sequence[Listed], start: Floats, pulls: Sequence[float], folds: int, seed: int) -> float:
    """The pull under which weights tell most of unseen questions; the strongest where all are alike."""
    part = _parts(len(listed), folds, seed)
    told = np.zeros(len(pulls))
    for left in range(min(folds, len(listed))):
        others, own = (
            _Padded.of([one for one, at in zip(listed, part, strict=True) if (at == left) == held])
            for held in (False, True)
        )
        for row, pull in enumerate(pulls):
            told[row] += own.surprise(_fit(others, start, pull))[0]
    strongest_first = np.argsort(-np.array(pulls), kind="stable")
    return float(pulls[strongest_first[np.argmin(told[strongest_first])]])


def surprise(listed: Sequence[Listed], weights: Floats) -> float:
    """Sum over questions of -log of the likelihood that a passage drawn by the scores answers."""
    return _Padded.of(listed).surprise(weights)[0]


def _parts(count: int, folds: int, seed: int) -> NDArray[np.int64]:
    """The fold of each question; folds are of even size."""
    return np.random.default_rng(seed).permutation(np.arange(count) % max(folds, 1))


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
