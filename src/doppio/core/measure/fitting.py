"""Weights of what is known of a passage, fitted to labelled questions: listwise, held near what they begin from."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.special import logsumexp

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
    told = [one for one in listed if one.right.any() and not one.right.all()]
    if not told:
        return start.copy()
    facts, real, right = _padded(told)

    def loss(weights: Floats) -> tuple[float, Floats]:
        scores = np.where(real, facts @ weights, HIDDEN)
        of_right = np.where(right, scores, HIDDEN)
        whole, good = logsumexp(scores, axis=1), logsumexp(of_right, axis=1)
        share = np.exp(scores - whole[:, None]) - np.exp(of_right - good[:, None])
        slope = np.einsum("qn,qnf->f", share, facts)
        away = weights - start
        return float(np.sum(whole - good) + pull / 2 * away @ away), slope + pull * away

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
        others = [one for one, at in zip(listed, part, strict=True) if at != left]
        own = [one for one, at in zip(listed, part, strict=True) if at == left]
        for row, pull in enumerate(pulls):
            told[row] += surprise(own, fit_weights(others, start, pull))
    strongest_first = np.argsort(-np.array(pulls), kind="stable")
    return float(pulls[strongest_first[np.argmin(told[strongest_first])]])


def surprise(listed: Sequence[Listed], weights: Floats) -> float:
    """Sum over questions of -log of the likelihood that a passage drawn by the scores answers."""
    total = 0.0
    for one in listed:
        if one.right.any() and not one.right.all():
            scores = one.facts @ weights
            total += float(logsumexp(scores) - logsumexp(scores[one.right]))
    return total


def _parts(count: int, folds: int, seed: int) -> NDArray[np.int64]:
    """The fold of each question; folds are of even size."""
    return np.random.default_rng(seed).permutation(np.arange(count) % max(folds, 1))


def _padded(told: Sequence[Listed]) -> tuple[Floats, NDArray[np.bool_], NDArray[np.bool_]]:
    """Facts (questions, most, f), which places are real, and which answer."""
    most, width = max(len(one.right) for one in told), told[0].facts.shape[1]
    facts = np.zeros((len(told), most, width))
    real, right = np.zeros((len(told), most), bool), np.zeros((len(told), most), bool)
    for row, one in enumerate(told):
        count = len(one.right)
        facts[row, :count], real[row, :count], right[row, :count] = one.facts, True, one.right
    return facts, real, right
