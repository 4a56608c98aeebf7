"""A rule that suggests what a document begins with."""

from collections.abc import Iterator

from doppio.core.kinds import Setting
from doppio.core.text.document import Document


class FirstWords:
    name, title = "first-words", "first words"
    help = "what a document begins with"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        end = document.text.find("\n")
        yield f"How does {document.title} begin", 0, end if end > 0 else len(document.text)


KIND = FirstWords()
