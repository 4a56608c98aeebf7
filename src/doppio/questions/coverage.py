"""Which parts of the documents are asked about, and which never."""

from bisect import bisect_right
from collections import defaultdict
from typing import Any

from django.db.models import Count
from django.db.models.functions import Length

from doppio.library.models import Section, Workspace
from doppio.questions.models import AnswerSpan


def coverage(workspace: Workspace, after: str, limit: int) -> list[dict[str, Any]]:
    """Documents after a name with their stretches from one heading to the next, and how many answers stand in each.

    Notes
    -----
    An answer counts where it begins. One that is a whole document counts for the document alone. Four queries.
    """
    rows = workspace.documents.filter(name__gt=after).annotate(length=Length("text")).order_by("name")
    documents = list(rows.values_list("pk", "title", "length")[:limit])
    numbers = [pk for pk, *_ in documents]
    headings: dict[int, list[tuple[int, str, int]]] = defaultdict(list)
    sections = Section.objects.filter(document__in=numbers).order_by("document", "start", "index")
    for document, start, number, title, level in sections.values_list(
        "document", "start", "number", "title", "level"
    ):
        headings[document].append((start, f"{number} {title}".strip(), level))
    spans = AnswerSpan.objects.counting().filter(document__in=numbers).order_by()
    asked = dict(spans.values_list("document").annotate(Count("question", distinct=True)))
    answers: dict[int, list[tuple[int | None, int]]] = defaultdict(list)
    for owner, begins, count in spans.values_list("document", "start").annotate(Count("pk")):
        if owner is not None:
            answers[owner].append((begins, count))
    return [
        {
            "id": pk,
            "title": title,
            "length": length,
            "questions": asked.get(pk, 0),
            "answers": sum(count for _, count in answers[pk]),
            "sections": _stretches(length, headings[pk], answers[pk]),
        }
        for pk, title, length in documents
    ]


def _stretches(
    length: int, headings: list[tuple[int, str, int]], answers: list[tuple[int | None, int]]
) -> list[dict[str, Any]]:
    found = headings if headings and headings[0][0] == 0 else [(0, "", 0), *headings]
    starts = [start for start, *_ in found]
    counts = [0] * len(found)
    for begins, count in answers:
        if begins is not None:
            counts[bisect_right(starts, begins) - 1] += count
    ends = [*starts[1:], length]
    return [
        {"title": title, "level": level, "start": start, "end": end, "answers": count}
        for (start, title, level), end, count in zip(found, ends, counts, strict=True)
        if end > start
    ]
