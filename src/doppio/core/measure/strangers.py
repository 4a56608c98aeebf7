"""Are the questions that are asked like those that are labelled? Nearest neighbours among vectors say how far off.

References
----------
.. [1] H. B. Mann, D. R. Whitney, "On a Test of Whether one of Two Random Variables is Stochastically Larger than the
   Other", Annals of Mathematical Statistics 18(1), 1947.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.floating]
# Of labelled questions so many in a hundred are farther from all others than this.
FAR = 5.0
# With fewer of either kind nothing is said.
LEAST = 10


@dataclass(frozen=True)
class Strangers:
    """How near questions are to the nearest labelled one.

    live, labelled : cosine to the nearest labelled question in the median; of labelled ones, to the nearest other
    threshold : the cosine that 95 of 100 labelled questions reach
    strangers : share of live questions that do not, 0 to 1; 0.05 where they are like the labelled ones
    p : how likely live questions are as far off as this by chance, if they are like the labelled ones; one-sided [1]_
    nearest : (n,) float64, the cosine of each live question to its nearest labelled one
    """

    live: float
    labelled: float
    threshold: float
    strangers: float
    p: float
    nearest: NDArray[np.float64]


def beside_labelled(live: Floats, labelled: Floats) -> Strangers | None:
    """How far live questions are from labelled ones; None where there are too few of either.

    Parameters
    ----------
    live : (n, d) array
        Vectors of unit length.
    labelled : (m, d) array
    """
    if len(live) < LEAST or len(labelled) < LEAST:
        return None
    # Takes seconds to import, which every start would wait for.
    from scipy.stats import mannwhitneyu

    nearest = (live @ labelled.T).max(axis=1).astype(np.float64)
    among = labelled @ labelled.T
    np.fill_diagonal(among, -np.inf)
    own = among.max(axis=1).astype(np.float64)
    threshold = float(np.percentile(own, FAR))
    return Strangers(
        float(np.median(nearest)),
        float(np.median(own)),
        threshold,
        float((nearest < threshold).mean()),
        float(mannwhitneyu(nearest, own, alternative="less").pvalue),
        nearest,
    )
