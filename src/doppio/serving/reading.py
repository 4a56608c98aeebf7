"""What is there to read below a published name: documents, their outlines, their sections."""

from typing import Any

from django.shortcuts import get_object_or_404

from doppio.core.errors import DoppioError
from doppio.library.models import Document
from doppio.library.texts import figures_between, figures_of
from doppio.serving.models import Published

MOST_LISTED = 1000
FIELDS = ("pk", "name", "title", "words", "pages")


def listed(published: Published, after: int = 0, most: int = MOST_LISTED) -> list[dict[str, Any]]:
    """Documents by their numbers, those after one of them."""
    rows = published.workspace.documents.filter(pk__gt=after).order_by("pk").values_list(*FIELDS)
    return [dict(zip(("id", *FIELDS[1:]), row, strict=True)) for row in rows[: max(1, min(most, MOST_LISTED))]]


def read(published: Published, number: int, section: str) -> dict[str, Any]:
    """A document with its outline, and the text of a section or of all.

    Raises
    ------
    DoppioError
        If it has no such section.
    """
    found = get_object_or_404(Document.objects.prefetch_related("sections"), workspace=published.workspace, pk=number)
    outline = [one for one in found.sections.all() if not one.dropped]
    start, end = 0, len(found.text)
    if section:
        wanted = next((one for one in outline if str(one.index) == section), None)
        if wanted is None:
            raise DoppioError(f"section: {section!r} is none of this document; it has {len(outline)}")
        start, end = wanted.start, wanted.end
    return {
        "id": found.pk, "name": found.name, "title": found.title, "words": found.words, "pages": found.pages,
        "sections": [
            {"index": one.index, "title": f"{one.number} {one.title}".strip(), "level": one.level,
             "start": one.start, "end": one.end}
            for one in outline
        ],
        "start": start,
        "end": end,
        "text": found.text[start:end],
        "figures": figures_between(figures_of(found), start, end + 1),
    }  # fmt: skip
