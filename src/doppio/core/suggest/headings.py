"""Headings: one that is a question is asked as it stands, and any other names what its first paragraph is about."""

from collections.abc import Iterator

import regex

from doppio.core.kinds import Setting
from doppio.core.suggest.kind import LONGEST_ANSWER, lowered
from doppio.core.text.document import HEADING, PAGE, Document

_NUMBER = regex.compile(r"^[\d.]+\s+|^(?:section|chapter|appendix)\s+[\w.]+:?\s+", regex.I)
_ASKING = regex.compile(r"^(?:who|what|when|where|why|how|which|whose)\b", regex.I)
# They say where something stands, and not what.
_EMPTY = {
    "introduction", "overview", "contents", "table of contents", "notes", "general", "summary", "preface", "index",
    "purpose", "scope", "references", "appendix", "changes", "history", "contact", "other", "miscellaneous",
}  # fmt: skip


class Headings:
    """See the module."""

    name, title, order = "headings", "headings", 2
    help = "what a section is about, answered by its first paragraph"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        blocks = [block for block in document.blocks if block.kind != PAGE]
        for place, block in enumerate(blocks[:-1]):
            after = blocks[place + 1]
            # The first heading of a document is its title.
            if block.kind != HEADING or not place or after.kind == HEADING:
                continue
            heading = _NUMBER.sub("", " ".join(document.text[block.start : block.end].split()))
            if heading.casefold() in _EMPTY or len(heading) < 4:
                continue
            text = f"What applies to “{heading}” in {document.title}"
            if heading.endswith("?"):
                text = heading
            elif _ASKING.match(heading):
                text = f"{document.title}: {lowered(heading)}"
            end = after.end
            for more in blocks[place + 2 :]:
                if more.kind != after.kind or more.kind == "paragraph" or more.end - after.start > LONGEST_ANSWER:
                    break
                end = more.end
            yield text, after.start, end


KIND = Headings()
