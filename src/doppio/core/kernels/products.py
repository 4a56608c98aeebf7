"""Products of a question, or of many, with all rows of a matrix."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kernels.spans import in_spans

Floats = NDArray[np.float32]
# Numbers of a matrix from which on a second core has been woken before the first is done.
WORTH_SHARING = 2_000_000
_shares = [False]


def keep_to_one_core() -> None:
    """Have the linear-algebra library multiply on one core in this process, and share out here what is large.

    Notes
    -----
    After each product the library's threads look for another one for tens of milliseconds, on cores that the rest of
    this question and those of others could use. Where little but products is done, as in building, they may.
    """
    from threadpoolctl import threadpool_limits

    threadpool_limits(1, "blas")
    _shares[0] = True


def products(questions: Floats, rows: Floats, into: Floats) -> Floats:
    """Products of questions (q, d) with rows (n, d), written to `into` (q, n) and returned.

    Notes
    -----
    The library adds in an order that depends on the place of a row: the last bits differ with how rows are shared.
    """

    def multiply(span: tuple[int, int]) -> None:
        part = slice(*span)
        if len(questions) == 1:
            np.matmul(rows[part], questions[0], out=into[0, part])
        else:
            np.matmul(questions, rows[part].T, out=into[:, part])

    if _shares[0]:
        in_spans(len(rows), multiply, WORTH_SHARING // max(questions.size, 1))
    else:
        multiply((0, len(rows)))
    return into
