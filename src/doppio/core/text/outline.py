"""The outline of a document: sections from its headings, what looks wrong in it, and a person's corrections."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Protocol, TypeVar

import regex

from doppio.core.errors import DocumentError

TITLE, LEVEL, JOIN, SPLIT, DROP = ACTIONS = ("title", "level", "join", "split", "drop")
LEVELS = 9
LONG_HEADING = 120
_HEADING, _PARAGRAPH, _PAGE = "heading", "paragraph", "page"
_NUMBER = regex.compile(
    r"^(\d+(?:\.\d+)*|[A-Z](?:\.\d+)+|[A-Z](?=[.)]\s)|§ ?\d+[a-z]?)[.):]?\s+(\S.*)$", regex.DOTALL
)


class _Block(Protocol):
    """What the outline needs to know of a block."""

    @property
    def kind(self) -> str: ...
    @property
    def start(self) -> int: ...
    @property
    def end(self) -> int: ...
    @property
    def level(self) -> int: ...


B = TypeVar("B", bound=_Block)


@dataclass(frozen=True)
class Section:
    """A heading and all below it, sections within it included.

    parent : int, index of the section around it, -1 at the top
    page : int, page that the heading stands on, 0 where there are no pages
    dropped : bool, whether a person left the section out of chunks
    """

    number: str
    title: str
    level: int
    start: int
    end: int
    parent: int = -1
    page: int = 0
    dropped: bool = False

    @property
    def heading(self) -> str:
        """Number and title."""
        return f"{self.number} {self.title}".strip()


@dataclass(frozen=True)
class Doubt:
    """A section whose heading a person should look at, and why."""

    section: int
    reason: str


@dataclass(frozen=True)
class Correction:
    """What a person said about one heading, found again by its text.

    heading : str, text of the heading as it stands in the document; for a split the text that becomes one
    occurrence : int, which of the blocks that begin with this text, from 1
    action : one of "title", "level", "join" (its text goes on in the section before), "split" (a section begins
        here) and "drop" (the section is left out of chunks)
    value : the new title, the new level; None for "join" and "drop"
    """

    heading: str
    occurrence: int
    action: str
    value: str | int | None = None

    def to_json(self) -> dict[str, Any]:
        return {
            "heading": self.heading,
            "occurrence": self.occurrence,
            "action": self.action,
            "value": self.value,
        }

    @classmethod
    def from_json(cls, body: Mapping[str, Any]) -> "Correction":
        """Check a correction that came from outside.

        Raises
        ------
        DocumentError
            Names the field and what is allowed.
        """
        heading, occurrence = body.get("heading"), body.get("occurrence", 1)
        action, value = body.get("action"), body.get("value")
        if not isinstance(heading, str) or not heading.strip():
            raise DocumentError("heading: empty or not a text")
        if type(occurrence) is not int or occurrence < 1:
            raise DocumentError(f"occurrence: {occurrence!r} is not a whole number from 1")
        if action not in ACTIONS:
            raise DocumentError(f"action: {action!r} is not one of {', '.join(ACTIONS)}")
        if action == TITLE and (not isinstance(value, str) or not value.strip()):
            raise DocumentError("value: a title must be a text that is not empty")
        if action in (LEVEL, SPLIT) and (type(value) is not int or not 1 <= value <= LEVELS):
            raise DocumentError(f"value: {value!r} is not a level between 1 and {LEVELS}")
        kept = " ".join(value.split()) if isinstance(value, str) else value
        return cls(" ".join(heading.split()), occurrence, action, None if action in (JOIN, DROP) else kept)


def sections_of(
    text: str,
    blocks: Sequence[_Block],
    titles: Mapping[int, str] | None = None,
    dropped: Iterable[int] = (),
) -> tuple[Section, ...]:
    """Sections from the headings among the blocks.

    Parameters
    ----------
    text : str
    blocks : sequence of blocks, in the order of the text
    titles : mapping from the offset of a heading to the title that it is given instead of its text
    dropped : offsets of the headings whose sections are left out of chunks
    """
    titles, out = titles or {}, set(dropped)
    headings: list[_Block] = []
    pages: list[int] = []
    page = 0
    for block in blocks:
        if block.kind == _PAGE:
            page = block.level
        elif block.kind == _HEADING:
            headings.append(block)
            pages.append(page)
    ends = [len(text)] * len(headings)
    waiting: list[int] = []
    sections: list[Section] = []
    for index, block in enumerate(headings):
        while waiting and headings[waiting[-1]].level >= block.level:
            ends[waiting.pop()] = block.start
        parent = waiting[-1] if waiting else -1
        number, title = split_number(titles.get(block.start, text[block.start : block.end]))
        gone = block.start in out or (parent >= 0 and sections[parent].dropped)
        sections.append(Section(number, title, block.level, block.start, -1, parent, pages[index], gone))
        waiting.append(index)
    return tuple(replace(section, end=end) for section, end in zip(sections, ends, strict=True))


def split_number(heading: str) -> tuple[str, str]:
    """Number and title of a heading: `3.2 Gusts`, `B.1 Forms`, `§ 4 Liability`; the number may be missing."""
    line = " ".join(heading.split())
    match = _NUMBER.match(line)
    return (match[1], match[2]) if match else ("", line)


def doubts(text: str, blocks: Sequence[_Block], sections: Sequence[Section]) -> list[Doubt]:
    """Headings that a person should look at: numbers that jump, levels that skip, headings without text."""
    found: list[Doubt] = []
    filled = _sections_with_text(blocks, sections)
    last: dict[int, Section] = {}
    for index, section in enumerate(sections):
        parent = sections[section.parent] if section.parent >= 0 else None
        before = last.get(section.parent)
        if section.number:
            reason = _number_doubt(section, parent, before)
            if reason:
                found.append(Doubt(index, reason))
            last[section.parent] = section
        if parent is not None and section.level > parent.level + 1:
            found.append(Doubt(index, f"level {section.level} stands directly below level {parent.level}"))
        if index not in filled:
            found.append(Doubt(index, "no text stands below it"))
        title = section.title
        if len(title) > LONG_HEADING:
            found.append(Doubt(index, f"{len(title)} characters are long for a heading"))
        elif title.endswith((".", ",", ";")) and title.count(" ") > 3:
            found.append(Doubt(index, "it reads like a sentence"))
    return found


def _number_doubt(section: Section, parent: Section | None, before: Section | None) -> str:
    parts = section.number.lstrip("§ ").split(".")
    if parent is not None and parent.number and len(parts) > 1:
        above = parent.number.lstrip("§ ").split(".")
        if len(parts) == len(above) + 1 and parts[:-1] != above:
            return f"number {section.number} does not continue {parent.number}, the section around it"
    if before is None:
        first_is_far = parts[-1].isdigit() and int(parts[-1]) > 1 and len(parts) > 1
        return f"the first number here is {section.number}" if first_is_far else ""
    earlier = before.number.lstrip("§ ").split(".")
    if len(earlier) != len(parts) or earlier[:-1] != parts[:-1]:
        return ""
    if parts[-1].isdigit() and earlier[-1].isdigit():
        step = int(parts[-1]) - int(earlier[-1])
        if step != 1:
            return f"number {section.number} follows {before.number}"
    return ""


def _sections_with_text(blocks: Sequence[_Block], sections: Sequence[Section]) -> set[int]:
    by_start = {section.start: index for index, section in enumerate(sections)}
    filled: set[int] = set()
    here = -1
    for block in blocks:
        if block.start in by_start and block.kind == _HEADING:
            here = by_start[block.start]
        elif block.kind != _PAGE and here >= 0:
            above = here
            while above >= 0 and above not in filled:
                filled.add(above)
                above = sections[above].parent
    return filled


def corrected(
    text: str, blocks: Sequence[B], corrections: Sequence[Correction]
) -> tuple[tuple[B, ...], tuple[Section, ...], list[Correction]]:
    """Apply a person's corrections to what the machine found.

    Parameters
    ----------
    text : str
    blocks : sequence of blocks (a dataclass with `kind`, `start`, `end`, `level`) as they were read
    corrections : sequence of Correction, in the order in which they were made

    Returns
    -------
    blocks, sections : as they are after the corrections
    unmatched : the corrections whose heading is not in this text
    """
    current = list(blocks)
    titles: dict[int, str] = {}
    dropped: set[int] = set()
    unmatched: list[Correction] = []
    for correction in corrections:
        place = _find(text, current, correction)
        if place is None:
            unmatched.append(correction)
            continue
        block = current[place]
        if correction.action == TITLE:
            titles[block.start] = str(correction.value)
        elif correction.action == LEVEL:
            current[place] = _with(block, level=int(correction.value or 1))
        elif correction.action == JOIN:
            current[place] = _with(block, kind=_PARAGRAPH, level=0)
        elif correction.action == DROP:
            dropped.add(block.start)
        else:
            current[place : place + 1] = _split(text, block, correction)
    return tuple(current), sections_of(text, current, titles, dropped), unmatched


def occurrence_of(text: str, blocks: Sequence[_Block], start: int, heading: str) -> int:
    """Which of the blocks that begin with the heading's text is the one at `start`, from 1."""
    return sum(
        1
        for block in blocks
        if block.kind != _PAGE and block.start <= start and _begins(text, block, " ".join(heading.split()))
    )


def _find(text: str, blocks: Sequence[_Block], correction: Correction) -> int | None:
    seen = 0
    for place, block in enumerate(blocks):
        if block.kind == _PAGE or not _begins(text, block, correction.heading):
            continue
        seen += 1
        if seen == correction.occurrence:
            fits = correction.action == SPLIT or block.kind == _HEADING
            return place if fits else None
    return None


def _begins(text: str, block: _Block, heading: str) -> bool:
    if block.end - block.start < len(heading):
        return False
    piece = " ".join(text[block.start : min(block.end, block.start + 2 * len(heading) + 40)].split())
    return piece == heading or piece.startswith(heading + " ")


def _split(text: str, block: B, correction: Correction) -> list[B]:
    """The heading, and what is left of its block after it."""
    pattern = r"\s+".join(map(regex.escape, correction.heading.split()))
    match = regex.compile(pattern).match(text, block.start, block.end)
    end = match.end() if match else block.end
    parts = [_with(block, kind=_HEADING, end=end, level=int(correction.value or 1))]
    rest = text[end : block.end]
    if rest.strip():
        parts.append(_with(block, kind=_PARAGRAPH, start=end + len(rest) - len(rest.lstrip()), level=0))
    return parts


def _with(block: B, **changes: Any) -> B:
    return replace(block, **changes)  # type: ignore[type-var]
