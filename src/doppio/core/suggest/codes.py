"""Codes: a sentence that names a code answers what the code is about."""

from collections.abc import Iterator

import regex

from doppio.core.kinds import Setting
from doppio.core.suggest.kind import sentences
from doppio.core.text.document import Document

FEWEST_WORDS = 6
_CODE = regex.compile(r"(?<![\w/-])(?=[\w/.-]*\d)(?=[\w/.-]*\p{Lu})[\p{Lu}\d]+(?:[-/.][\p{Lu}\d]+)+(?![\w/-])")


class Codes:
    """See the module."""

    name, title, order = "codes", "codes", 5
    help = "what is said where a code stands for the first time"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        seen: set[str] = set()
        for start, end in sentences(document):
            # A few words, such as a title, say nothing of a code.
            if len(document.text[start:end].split()) < FEWEST_WORDS:
                continue
            for found in _CODE.finditer(document.text[start:end]):
                if found[0] not in seen:
                    seen.add(found[0])
                    yield f"What is said about {found[0]}", start, end


KIND = Codes()
