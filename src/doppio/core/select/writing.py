"""How the context is written out: each piece by a template, with what a citation needs."""

import string
from collections.abc import Sequence
from dataclasses import dataclass, field

from doppio.core.chunking.context import titled_path
from doppio.core.kinds import Setting

DEFAULT = "[{number}] {place}\n{text}\n{carried}"
BETWEEN = "\n\n"
FIELDS = ("number", "place", "title", "section", "page", "lines", "link", "carried", "text")
# Names that sources have for where a document can be read.
LINKS = ("link", "url", "href", "source", "permalink")
TEMPLATE = Setting(
    "template",
    "Template of a passage",
    {"type": "string", "minLength": 1, "maxLength": 2000, "default": DEFAULT, "format": "lines"},
    help=f"may name {', '.join(f'{{{name}}}' for name in FIELDS)}; doubled braces are braces",
)


@dataclass(frozen=True)
class Citable:
    """A piece of the context with all that is said of where it stands.

    number : its place in the context, from 1
    section : headings from the outermost in
    page : 0 where the document has none
    lines : first and last, from 1, of the document's text
    carried : fields that are handed on with it
    """

    number: int
    title: str
    section: Sequence[str]
    page: int
    lines: tuple[int, int]
    text: str
    carried: dict[str, str] = field(default_factory=dict)

    @property
    def link(self) -> str:
        """Where its source can be read, by the fields that it carries; empty where none says it."""
        told = {name.lower(): value for name, value in self.carried.items()}
        return next((told[name] for name in LINKS if name in told), "")


def wrong_template(template: str) -> str | None:
    """What is wrong with a template; None where nothing is."""
    try:
        parts = list(string.Formatter().parse(template))
    except ValueError as error:
        return f"{error}; a brace that is meant as such is written twice"
    for _, name, form, conversion in parts:
        if name is not None and (name not in FIELDS or form or conversion):
            return f"{{{name}}} is not one of {', '.join(f'{{{known}}}' for known in FIELDS)}"
    return None if any(name == "text" for _, name, _, _ in parts) else "has no {text}, so nothing would be handed on"


def written(template: str, piece: Citable) -> str:
    """A piece as it is handed on, without white space at its ends."""
    first, last = piece.lines
    return template.format(
        number=piece.number,
        place=titled_path(piece.title, piece.section),
        title=piece.title,
        section=": ".join(piece.section),
        page=f"p. {piece.page}" if piece.page else "",
        lines=f"{first}" if first == last else f"{first}-{last}",
        link=piece.link,
        carried="\n".join(f"{name}: {value}" for name, value in piece.carried.items()),
        text=piece.text,
    ).strip()
