"""A document: its canonical text, and its blocks and sections as ranges of that text."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import regex

from doppio.core.fingerprint import fingerprint, text_digest
from doppio.core.text.canonical import canonical

HEADING, PARAGRAPH, ITEM, ROW, CODE = "heading", "paragraph", "item", "row", "code"
_CLOSE = {ITEM, ROW}
_NUMBER = regex.compile(r"^(\d+(?:\.\d+)*|[A-Z]\.\d+)[.)]?\s+(\S.*)$")


@dataclass(frozen=True)
class Block:
    """A range of a document that is one heading, paragraph, list item, table row or piece of code."""

    kind: str
    start: int
    end: int
    level: int = 0


@dataclass(frozen=True)
class Section:
    """A heading and all below it, sections within it included; `parent` is an index, -1 at the top."""

    number: str
    title: str
    level: int
    start: int
    end: int
    parent: int = -1


@dataclass(frozen=True)
class Document:
    """Offsets count Unicode code points of `text`, which is in canonical form."""

    id: str
    title: str
    text: str
    blocks: tuple[Block, ...] = ()
    sections: tuple[Section, ...] = ()
    metadata: Mapping[str, Any] = field(default_factory=dict)

    def section_path(self, index: int) -> tuple[str, ...]:
        """Titles from the outermost section to this one; empty for index -1."""
        path: list[str] = []
        while index >= 0:
            section = self.sections[index]
            path.append(f"{section.number} {section.title}".strip())
            index = section.parent
        return tuple(reversed(path))


def corpus_fingerprint(documents: Sequence[Document]) -> str:
    """Digest of the ids and texts of all documents, in order."""
    return corpus_key([(document.id, text_digest(document.text)) for document in documents])


def corpus_key(digests: Sequence[tuple[str, str]]) -> str:
    """The same digest from ids and digests of the texts."""
    return fingerprint([list(pair) for pair in digests])


class DocumentBuilder:
    """Puts blocks one after another and keeps their offsets."""

    def __init__(self) -> None:
        self._parts: list[str] = []
        self._length = 0
        self._blocks: list[Block] = []

    def add(self, kind: str, text: str, level: int = 0) -> None:
        """Append one block; blank text is passed over."""
        text = canonical(text).strip("\n").rstrip()
        if kind != CODE:
            text = text.strip()
        if not text:
            return
        if self._blocks:
            close = kind in _CLOSE and self._blocks[-1].kind == kind
            gap = "\n" if close else "\n\n"
            self._parts.append(gap)
            self._length += len(gap)
        self._parts.append(text)
        self._blocks.append(Block(kind, self._length, self._length + len(text), level))
        self._length += len(text)

    def build(self, identity: str, title: str | None = None, metadata: Mapping[str, Any] | None = None) -> Document:
        """Finish the document; without a title the first heading is taken, and then the id."""
        text = "".join(self._parts)
        headings = [text[block.start : block.end] for block in self._blocks if block.kind == HEADING]
        return Document(
            id=identity,
            title=title or (headings[0] if headings else identity),
            text=text,
            blocks=tuple(self._blocks),
            sections=_sections(text, self._blocks),
            metadata=dict(metadata or {}),
        )


def _sections(text: str, blocks: list[Block]) -> tuple[Section, ...]:
    headings = [block for block in blocks if block.kind == HEADING]
    sections: list[Section] = []
    open_ones: list[int] = []
    for index, block in enumerate(headings):
        while open_ones and headings[open_ones[-1]].level >= block.level:
            open_ones.pop()
        later = (other.start for other in headings[index + 1 :] if other.level <= block.level)
        line = " ".join(text[block.start : block.end].split())
        match = _NUMBER.match(line)
        number, title = (match[1], match[2]) if match else ("", line)
        parent = open_ones[-1] if open_ones else -1
        sections.append(Section(number, title, block.level, block.start, next(later, len(text)), parent))
        open_ones.append(index)
    return tuple(sections)
