"""Where does a sentence begin? Punctuation, less abbreviations, initials and decimals."""

import numpy as np
import regex
from numpy.typing import NDArray

_ABBREVIATIONS = frozenset(
    """e.g i.e etc cf vs no nos approx min max fig figs sec ch art para p pp vol ed dr mr mrs ms prof st
    jan feb mar apr jun jul aug sep sept oct nov dec tel ref incl excl ca""".split()
)
_END = regex.compile(
    r"(?P<word>[\p{L}\p{N}.]*)(?:[.!?…]+|[。！？])(?P<close>[\"'”’)\]]*)(?P<gap>\s+|(?<=[。！？]))(?=\S)"
)


def sentence_starts(text: str) -> NDArray[np.int64]:
    """Offsets at which a sentence begins, the first one left out.

    Notes
    -----
    A full stop ends no sentence after an abbreviation or a single initial, nor before a lower-case word.
    """
    starts = []
    for match in _END.finditer(text):
        follows = text[match.end()]
        word = match["word"].lower().rstrip(".")
        stop = text[match.start("close") - 1]
        if stop == "." and (word in _ABBREVIATIONS or follows.islower() or (len(word) == 1 and word.isalpha())):
            continue
        starts.append(match.end())
    return np.asarray(starts, dtype=np.int64)
