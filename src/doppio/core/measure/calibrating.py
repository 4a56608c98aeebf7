"""How a score becomes a probability: a slope and an offset, fitted to what was right."""

import numpy as np
import scipy
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def slope_and_offset(scores: Floats, right: NDArray[np.bool_]) -> tuple[float, float]:
    """Slope, which is positive, and offset of the logistic curve under which what was right is likeliest.

    Parameters
    ----------
    scores : (n,) float64 array
        Larger is better.
    right : (n,) bool array

    Notes
    -----
    Fitted on standardised scores, so that their scale is no matter. Scores that are all alike get a slope near 0.

    References
    ----------
    .. [1] J. Platt, "Probabilistic outputs for support vector machines and comparisons to regularized likelihood
       methods", Advances in Large Margin Classifiers, 1999.
    """
    truth = np.asarray(right, np.float64)
    centre, spread = float(scores.mean()), max(float(scores.std()), 1e-9)
    given = (scores - centre) / spread

    def loss(of: Floats) -> tuple[float, Floats]:
        logits = np.exp(of[0]) * given + of[1]
        off = scipy.special.expit(logits) - truth
        slope = np.array([np.sum(off * given) * np.exp(of[0]), np.sum(off)])
        return float(np.sum(np.logaddexp(0, logits) - truth * logits)), slope

    found = scipy.optimize.minimize(
        loss, np.array([0.0, -2.0]), jac=True, method="L-BFGS-B", bounds=[(-12, 8), (-60, 60)]
    ).x
    steep = float(np.exp(found[0])) / spread
    return steep, float(found[1]) - steep * centre
