"""Fits the weights that tell broad questions: `python -m training.broad` prints them, and how right they are.

The questions are in `broad_questions.txt`; ridge and figures are by leaving out a tenth at a time.
"""

from pathlib import Path

import numpy as np
from scipy.optimize import minimize

from doppio.core.select.broad import FEATURES, features

RIDGES = (0.3, 1.0, 3.0)


def read(path: Path = Path(__file__).with_name("broad_questions.txt")) -> tuple[np.ndarray, np.ndarray]:
    rows = [line[:1] + line[2:] for line in path.read_text("utf-8").splitlines() if line[:2] in ("+ ", "- ")]
    return np.array([features(row[1:]) for row in rows]), np.array([row[0] == "+" for row in rows], float)


def fit(x: np.ndarray, y: np.ndarray, ridge: float) -> np.ndarray:
    """Offset and weights of a logistic regression with a ridge on the weights."""

    def loss(w: np.ndarray) -> float:
        odds = w[0] + x @ w[1:]
        return float(np.logaddexp(0, np.where(y > 0, -odds, odds)).sum() + ridge * (w[1:] ** 2).sum() / 2)

    return np.asarray(minimize(loss, np.zeros(x.shape[1] + 1), method="L-BFGS-B").x)


def main() -> None:
    x, y = read()
    part = np.random.default_rng(3).permutation(len(y)) % 10
    held = {}
    for ridge in RIDGES:
        odds = np.zeros(len(y))
        for fold in range(10):
            w = fit(x[part != fold], y[part != fold], ridge)
            odds[part == fold] = w[0] + x[part == fold] @ w[1:]
        held[ridge] = float(np.logaddexp(0, np.where(y > 0, -odds, odds)).mean())
        print(f"ridge {ridge}: loss {held[ridge]:.3f}, right {((odds > 0) == (y > 0)).mean():.3f} of {len(y)}")
    w = fit(x, y, min(held, key=lambda ridge: held[ridge]))
    print(f"offset {w[0]:.2f}")
    for name, weight in zip(FEATURES, w[1:], strict=True):
        print(f"{weight:6.2f}  {name}")


if __name__ == "__main__":
    main()
