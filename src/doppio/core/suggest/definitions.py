"""Definitions: "Yellow means that the line is slowed", "A gust is taken over three seconds"."""

from collections.abc import Iterator

import regex

from doppio.core.kinds import Setting
from doppio.core.suggest.kind import lowered, sentences
from doppio.core.text.document import ITEM, Document

_MEANS = regex.compile(
    r"^((?:The |An? )?[\p{L}\d][\p{L}\d/-]*(?: [\p{L}\d/-]+){0,4}?) (?:means|stands for|denotes)\s"
)
_IS = regex.compile(r"^((?:The |An? )?[\p{L}\d][\p{L}\d/-]*(?: [\p{L}\d/-]+){0,4}?) (is|are) (?:an? |the )\p{L}")
_TERM = regex.compile(r"^([\p{L}\d][\p{L}\d/-]*(?: [\p{L}\d/-]+){0,2}): \S")
# What begins so points back to something before it, and says nothing alone.
_BACK = regex.compile(
    r"^(?:it|this|that|these|those|they|he|she|there|here|what|which|who|each|nothing|one|both|all|not|only|at|in|on"
    r"|from|with|by|for|to|of|when|if|after|before|so|then|but|and|or|as|where|how|why|your?|our|my|his|her|their)\b",
    regex.I,
)


class Definitions:
    """See the module."""

    name, title, order = "definitions", "definitions", 3
    help = "sentences that say what something is or means"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        items = [(block.start, block.end) for block in document.blocks if block.kind == ITEM]
        inside = {at for start, end in items for at in range(start, min(start + 6, end))}
        for start, end in sentences(document):
            sentence = document.text[start:end]
            if _BACK.match(sentence):
                continue
            means, found = _MEANS.match(sentence), _IS.match(sentence)
            # "Term: what it is" is a definition in a list; in running text a colon is a colon.
            if not found and start in inside:
                found = _TERM.match(sentence)
            if means:
                yield f"What does {lowered(means[1])} mean", start, end
            elif found:
                verb = "are" if found.re is _IS and found[2] == "are" else "is"
                yield f"What {verb} {lowered(found[1])}", start, end


KIND = Definitions()
