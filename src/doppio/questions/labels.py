"""Labels when documents change: they move by their quotes, and those that find no place wait for a person."""

from typing import Any

from django.db.models import F
from django.db.models.functions import Substr

from doppio.core.measure.placing import closest, place_again
from doppio.library.models import Document, Workspace
from doppio.library.services import Moved
from doppio.questions.models import AnswerSpan


def move_labels(sender: Any, document: Document, before: str, **_: Any) -> Moved:
    """Move the labels of a document whose text changed."""
    moved = Moved()
    spans = list(AnswerSpan.objects.filter(document=document))
    for span in spans:
        if span.lost:
            found = _only_place(document.text, span.quote)
        elif span.start is None or span.end is None:
            continue
        else:
            span.quote = before[span.start : span.end]
            found = place_again(before, span.start, span.end, document.text)
        _put(span, document, found, moved)
    AnswerSpan.objects.bulk_update(spans, ["start", "end", "lost", "quote"], 500)
    return moved


def keep_quotes(sender: Any, workspace: Workspace, documents: list[int], **_: Any) -> None:
    """Keep what labels quote before their documents go; a document of the same name gets them back."""
    spans = list(
        AnswerSpan.objects.filter(document__in=documents)
        .annotate(quoted=Substr("document__text", F("start") + 1, F("end") - F("start")))
        .select_related("document")
        .defer("document__text", "document__blocks", "document__found")
    )
    for span in spans:
        span.quote = span.quote if span.lost else span.quoted or ""
        span.document_name = span.document.name if span.document else ""
        span.document, span.start, span.end, span.lost = None, None, None, True
    AnswerSpan.objects.bulk_update(spans, ["document", "start", "end", "lost", "quote", "document_name"], 500)


def take_back(sender: Any, workspace: Workspace, documents: list[Document], **_: Any) -> None:
    """Give labels that lost their document to a new one of the same name, where it holds their quotes."""
    by_name = {document.name: document for document in documents}
    spans = list(
        AnswerSpan.objects.filter(
            question__workspace=workspace, lost=True, document=None, document_name__in=list(by_name)
        )
    )
    for span in spans:
        document = by_name[span.document_name]
        span.document = document
        if span.quote:
            _put(span, document, _only_place(document.text, span.quote), Moved())
        else:
            # The label was the whole document, and is again.
            span.lost = False
    AnswerSpan.objects.bulk_update(spans, ["document", "start", "end", "lost", "quote"], 500)


def _only_place(text: str, quote: str) -> tuple[int, int] | None:
    return place_again(quote, 0, len(quote), text) if quote else None


def _put(span: AnswerSpan, document: Document, found: tuple[int, int] | None, moved: Moved) -> None:
    if found is None:
        span.start = span.end = None
        span.lost = True
        moved.lost += 1
    else:
        span.start, span.end = found
        span.lost, span.quote = False, ""
        moved.moved += 1


def lost_labels(workspace: Workspace) -> list[dict[str, Any]]:
    """Labels that wait for a person, each with the place that is most like it."""
    rows = AnswerSpan.objects.filter(question__workspace=workspace, lost=True).select_related("question", "document")
    found = []
    for row in rows:
        text = row.document.text if row.document else ""
        suggestion = closest(text, row.quote) if text and row.quote else None
        found.append(
            {
                "id": row.pk,
                "question": row.question_id,
                "text": row.question.text,
                "document": row.document_id,
                "title": row.document.title if row.document else row.document_name,
                "quote": row.quote,
                "suggestion": suggestion
                and {
                    "start": suggestion.start,
                    "end": suggestion.end,
                    "alike": suggestion.alike,
                    "text": text[suggestion.start : suggestion.end],
                },
            }
        )
    return found
