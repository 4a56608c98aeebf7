"""Stretches of a document that are cut on their own: hosts, rows, what a person did not drop."""

from bisect import bisect_left, bisect_right
from dataclasses import replace

from doppio.core.text.document import ROW, Document

Range = tuple[int, int]


def part_of(document: Document, start: int, end: int) -> Document:
    """A stretch of a document as one of its own, with offsets from its start; it has blocks and no sections."""
    if start == 0 and end == len(document.text):
        return document
    blocks = document.blocks
    low = bisect_right(blocks, start, key=lambda block: block.end)
    high = bisect_left(blocks, end, key=lambda block: block.start)
    inside = tuple(
        replace(block, start=max(block.start, start) - start, end=min(block.end, end) - start)
        for block in blocks[low:high]
    )
    return Document(document.id, document.title, document.text[start:end], inside, whole=document.whole or document)


def kept_ranges(document: Document) -> list[Range]:
    """The document without the sections that a person dropped."""
    found: list[Range] = []
    reached = 0
    for section in document.sections:
        if section.dropped and section.end > reached:
            if section.start > reached:
                found.append((reached, section.start))
            reached = max(reached, section.end)
    if reached < len(document.text):
        found.append((reached, len(document.text)))
    return found


def row_ranges(document: Document) -> list[tuple[int, int, bool]]:
    """Each table row, and what lies between rows; the flag says that it is a row."""
    found: list[tuple[int, int, bool]] = []
    reached = 0
    for block in document.blocks:
        if block.kind != ROW:
            continue
        if block.start > reached:
            found.append((reached, block.start, False))
        found.append((block.start, block.end, True))
        reached = block.end
    if reached < len(document.text):
        found.append((reached, len(document.text), False))
    return found
