"""Sections of a manual, and which of their headings ask something."""

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from doppio.core.text.document import CODE, HEADING, Document

QUESTION, HOW_TO, OTHER = "question", "how-to", "other"
SHORTEST, LONGEST = 160, 2400
WORDS = range(3, 26)
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


@dataclass(frozen=True)
class Section:
    """A heading and the text under it, the heading itself left out."""

    heading: str
    kind: str
    text: str


def sections(documents: Iterable[Document]) -> list[Section]:
    """Sections with enough text under a heading; a heading that occurs twice asks nothing."""
    found = [Section(heading, OTHER, text) for document in documents for heading, text in _split(document)]
    texts = Counter(section.text for section in found)
    found = [section for section in found if texts.pop(section.text, 0)]
    times = Counter(section.heading.lower() for section in found)
    return [Section(s.heading, kind_of(s.heading) if times[s.heading.lower()] == 1 else OTHER, s.text) for s in found]


def kind_of(heading: str) -> str:
    """Whether a heading is a question, tells how something is done, or neither."""
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
    return OTHER


def asked(heading: str) -> str:
    """A heading in the words of one who asks: what is told as an order becomes "How do I ...?"."""
    first, _, rest = heading.partition(" ")
    if first.lower() in _DOING and rest:
        return f"How do I {first.lower()} {rest}?"
    if first.lower() == "to" and rest:
        return f"How do I {rest}?"
    return heading


def _split(document: Document) -> Iterator[tuple[str, str]]:
    heading, body = document.title, []
    for block in [*document.blocks, None]:
        if block is None or block.kind == HEADING:
            text = "\n\n".join(body)
            if len(text) >= SHORTEST:
                yield _NUMBER.sub("", heading).strip(), _cut(text)
            if block is not None:
                heading, body = document.text[block.start : block.end], []
        elif block.kind != CODE or block.end - block.start < 600:
            body.append(document.text[block.start : block.end])


def _cut(text: str) -> str:
    """The text up to the end of the last whole paragraph or word that fits."""
    if len(text) <= LONGEST:
        return text
    end = max(text.rfind("\n\n", 0, LONGEST), text.rfind(" ", 0, LONGEST))
    return text[:end]
