"""Where the text of a page stands on it, so that a part of the page can be labelled, and labels be seen on it."""

from typing import Any

from doppio.core.text.document import PAGE, Block
from doppio.core.text.pictures import Picture, figures_on
from doppio.core.text.standing import standing
from doppio.library.models import Document
from doppio.library.pictures import page_lines


def page_standing(row: Document, page: int) -> dict[str, Any]:
    """Lines of a page that are found in the document's text, with their places, and the pictures on it.

    Raises
    ------
    DocumentError
        If the file is gone or broken.
    """
    assert row.file is not None
    blocks = [Block(*block) for block in row.blocks]
    begins = [(block.start, block.level) for block in blocks if block.kind == PAGE]
    low = next((start for start, number in begins if number >= page), len(row.text))
    high = next((start for start, number in begins if number > page), len(row.text))
    # A paragraph that goes on over the page belongs to the page before, where it began.
    before = [block for block in blocks if block.kind != PAGE and block.end <= low]
    found = standing(
        page_lines(row.file.digest, row.file.name, page), row.text, blocks, before[-1].start if before else low, high
    )
    told = [Picture.from_json(one) for one in row.pictures]
    return {
        "lines": [
            {"place": list(one.line[1]), "start": one.start, "end": one.end, "whole": one.whole} for one in found
        ],
        "pictures": [
            {"place": list(one.place), "start": one.anchor[0], "end": one.anchor[1], "number": number}
            for number, one in figures_on(told, page)
            if one.anchor
        ],
    }
