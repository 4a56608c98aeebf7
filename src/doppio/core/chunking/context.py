"""What goes with a chunk: the line put before it for indexing, and the fields handed on after it."""

from collections.abc import Iterable

from doppio.core.text.document import Document

NONE, TITLE, PATH = "none", "title", "path"
CONTEXT_TITLES = {NONE: "nothing", TITLE: "title", PATH: "title and sections"}


def context_line(document: Document, section: int, context: str) -> str:
    """The line that stands before a chunk of this section when it is indexed; empty where there is none.

    Notes
    -----
    "title" is the document's title; "path" goes on with the titles of the sections down to the chunk's own.
    """
    if context == NONE:
        return ""
    return titled_path(document.title, document.section_path(section) if context == PATH else ())


def titled_path(title: str, headings: Iterable[str]) -> str:
    """A title and the headings below it on one line; a heading that repeats the title stands once."""
    return ": ".join([title, *(heading for heading in headings if heading != title)])


def with_context(line: str, text: str) -> str:
    """A chunk as it is indexed."""
    return f"{line}\n{text}" if line else text


def carried_text(document: Document) -> str:
    """Fields that are handed on with every passage of a document, a line each."""
    return "\n".join(f"{name}: {value}" for name, value in document.carried.items())
