"""Does a question ask for all of a section, or for one fact of it? A small classifier on the words that ask.

Its weights are fitted by `training/broad.py` to questions about matters that nothing else here speaks of; see
docs/measurement.md for how often it is right on others.
"""

from collections.abc import Sequence

import numpy as np
import regex
from numpy.typing import NDArray

from doppio.core.text.stop_words import STOP_WORDS
from doppio.core.text.units import folded_words

_ASKS_ONE = regex.compile(
    r"\b(how (many|much|long|often|far|old|high|deep|wide|soon|quickly|large|big|late|early|heavy|fast|near)"
    r"|what (time|number|size|colour|color|age|voltage|pressure|percentage|day|date|temperature|interval|speed)"
    r"|(at|in|from|by|up to|since|to|on|with) (what|which|when|whom)|who|whose|whom|when|where|which)\b"
)
_MEASURE = regex.compile(
    r"\b(maximum|minimum|largest|smallest|highest|lowest|default|limit|number|phone|price|cost|costs|fee|name|address"
    r"|code|length|weight|range|discount|mean|means|stand for|called)\b"
)
_TELLS = regex.compile(
    r"\b(explain|describe|outline|summari[sz]e|overview|introduction|guide|guidelines|compare|list|tell me"
    r"|everything|all (about|the|rules|of)|walk me through|instructions?|troubleshooting)\b"
)
_MATTERS = regex.compile(
    r"\b(rules?|regulations?|procedures?|process|steps?|step by step|duties|tasks|requirements|conditions|precautions"
    r"|ways|kinds|types|forms|safety|safely|maintenance|behaviour|behavior|preparing|working|cleaning|handling)\b"
)
_HOW = regex.compile(r"^\W*how (do|does|did|is|are|was|can|could|should|to|must|will)\b")
_WHAT_DOES_ONE = regex.compile(r"\bwhat (is|was)( the| its)?\b")
_WHAT_TO_DO = regex.compile(
    r"\bwhat (are|were|has|have|should|must|happens|happened|went|do|can|needs|services|did)\b"
    r"|\bwhat is (done|checked)\b"
)
_YES_NO = regex.compile(r"^\W*(is|are|was|were|do|does|did|can|may|must|has|have|will|should)\b")
_WHY = regex.compile(r"^\W*why\b")
_ASKING = regex.compile(r"\?|^\W*(how|what|why|when|where|which|who)\b")
_CODE = regex.compile(r"\d|\b[A-Z]{2,}\b")
_COMMON = STOP_WORDS["en"]

FEATURES = (
    "asks for one thing", "names a measure", "asks to be told", "names a matter of many parts",
    "how something is done", "what something is", "what there is to do", "yes or no", "why",
    "a phrase that asks nothing", "a code or a figure", "words beyond six",
)  # fmt: skip
WEIGHTS = np.array([-1.86, -2.39, 2.47, 3.27, 3.18, -0.44, 3.66, -1.89, 0.64, 1.32, -1.04, 0.77])
OFFSET = -1.22
# What it adds to the log odds that the question is the heading of a passage, less its small words.
A_HEADING = 2.0


def features(question: str) -> NDArray[np.float64]:
    """What is asked, in (12,) numbers; see `FEATURES`."""
    text = question.lower()
    found = [
        pattern.search(text) is not None
        for pattern in (_ASKS_ONE, _MEASURE, _TELLS, _MATTERS, _HOW, _WHAT_DOES_ONE, _WHAT_TO_DO, _YES_NO, _WHY)
    ]
    found += [_ASKING.search(text) is None, _CODE.search(question) is not None]
    return np.array([*found, max(len(text.split()) - 6, 0) / 6], np.float64)


def broadness(question: str, headings: Sequence[str] = ()) -> float:
    """The probability that a question asks for all of a section, 0 to 1.

    Parameters
    ----------
    question : str
        In English; of others it is told by the headings alone.
    headings : sequence of str
        Of the sections that the passages found stand in.
    """
    odds = OFFSET + float(features(question) @ WEIGHTS)
    asked = _content(question)
    if any(_content(heading) == asked for heading in headings if asked):
        odds += A_HEADING
    return float(1 / (1 + np.exp(-odds)))


def _content(text: str) -> frozenset[str]:
    """Words that say what it is about; those of asking are not among them."""
    return frozenset(word for word in folded_words(text) if word and word not in _COMMON)
