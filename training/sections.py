"""Headings that ask something, and how one who asks would say them."""

import re

QUESTION, HOW_TO, TOPIC, OTHER = KINDS = ("question", "how-to", "topic", "other")
# Characters of the text under a heading that is asked.
SHORTEST, LONGEST = 160, 4000
WORDS, LONGEST_TOPIC = range(3, 26), 9
_NUMBER = re.compile(
    r"^(?:(?:chapter|section|appendix|part|q)\s*)?[A-Z]?[\d.:]*\d[.:)]*\s+|^\W+|[¶#\s]+$", re.IGNORECASE
)
_ASKING = set("how what why when where which who can could do does did is are should will would".split())
_DOING = set(
    """add adjust allow apply assign attach avoid back block browse build calculate call change check choose clear
    combine compare compile configure connect convert copy create customize customise debug define delete disable
    disconnect display draw edit embed enable enter exchange export extract filter find fix format generate get give
    hide import include insert install invert jump keep limit link list load lock log make manage mark merge mix move
    open organize override pass perform play prevent print protect put read record redirect reduce remove rename
    repair replace report reset resize restore restrict rotate run save scan search select send set share show sort
    specify split start stop store switch synchronize tell test transform transfer turn undo update upgrade use
    verify view watch wrap write""".split()
)


def spoken(heading: str) -> str:
    """A heading without its number and without signs that nobody says."""
    return " ".join(_NUMBER.sub("", heading).split())


def kind_of(heading: str) -> str:
    """Whether a heading is a question, tells how something is done, names a topic in some words, or nothing."""
    words = re.findall(r"[A-Za-z'-]+", heading)
    if len(words) not in WORDS:
        return OTHER
    first = words[0].lower()
    if heading.endswith("?") or (first in _ASKING and first not in ("do", "is", "are", "will", "can")):
        return QUESTION
    if (
        first in _DOING
        or (first.endswith("ing") and len(first) > 5)
        or (first == "to" and words[1].lower() in _DOING)
    ):
        return HOW_TO
    fits = len(words) <= LONGEST_TOPIC and len(heading) < 90 and not re.search(r"[_=<>{}\[\]|$]|\d\.\d", heading)
    return TOPIC if fits else OTHER


def asked(heading: str) -> str:
    """A heading in the words of one who asks: what is told as an order becomes "How do I ...?"."""
    first, _, rest = heading.partition(" ")
    if first.lower() in _DOING and rest:
        return f"How do I {first.lower()} {rest}?"
    if first.lower() == "to" and rest:
        return f"How do I {rest}?"
    return heading
