"""Sentences with a condition: "If the gauge fails, the line runs on" answers what happens if the gauge fails."""

from collections.abc import Iterator

import regex

from doppio.core.kinds import Setting
from doppio.core.suggest.kind import lowered, sentences
from doppio.core.text.document import Document

# A condition on "they" or "it" says nothing away from its sentence.
_NOT_BACK = r"(?!(?:they|it|he|she|we|this|that|these|those|there|not|a year|a month|a week|a day)\b)"
_FIRST = regex.compile(rf"^(If|When|Unless|Once|As soon as|As long as|In case)\s+{_NOT_BACK}([^,;:]{{6,100}}),\s+\S")
_LATER = regex.compile(rf"^[^,;:]{{10,}}?\s(if|when|unless|as soon as)\s+{_NOT_BACK}([^,;:.]{{6,100}})[.;,]")


class Conditions:
    """See the module."""

    name, title, order = "conditions", "conditions", 1
    help = "sentences that say what holds if or when something is so"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        for start, end in sentences(document):
            sentence = document.text[start:end]
            found = _FIRST.match(sentence) or _LATER.match(sentence)
            if found:
                yield f"What happens {lowered(found[1])} {found[2]}", start, end


KIND = Conditions()
