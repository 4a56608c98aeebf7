"""Suggested questions: read off documents that are asked about least, and decided on by people."""

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Count

from doppio.core.errors import QuestionError
from doppio.core.last_used import LastUsed
from doppio.core.suggest.kind import Suggestion, suggestions
from doppio.library.corpus import core_document
from doppio.library.models import Document, Workspace
from doppio.questions.models import AnswerSpan, Decision, Question, QuestionSet
from doppio.questions.writing import add_label, check_range, remove_question, write_question

OF_ONE_DOCUMENT, READ_AT_ONCE, KEPT = 3, 20, 1024


class _Read:
    """What the rules read off the documents that were looked at last; a document that changes has another digest."""

    def __init__(self) -> None:
        self._known: LastUsed[tuple[int, str], list[Suggestion]] = LastUsed(KEPT)

    def of(self, numbers: list[int], digests: dict[int, str]) -> dict[int, list[Suggestion]]:
        found = {pk: read for (pk, _), read in self._known.of((pk, digests[pk]) for pk in numbers).items()}
        lacking = Document.objects.filter(pk__in=[pk for pk in numbers if pk not in found])
        for row in lacking.prefetch_related("sections"):
            found[row.pk] = suggestions(core_document(row))
        self._known.keep({(pk, digests[pk]): read for pk, read in found.items()})
        return found


_read = _Read()


def suggested(workspace: Workspace, count: int, document: int | None = None) -> list[dict[str, Any]]:
    """Suggestions that nobody has decided on, of the documents with the fewest questions and decisions first."""
    spans = AnswerSpan.objects.counting().filter(document__workspace=workspace).order_by()
    asked = dict(spans.values_list("document").annotate(Count("question", distinct=True)))
    decisions = Decision.objects.filter(document__workspace=workspace).order_by()
    decided_on = dict(decisions.values_list("document").annotate(Count("pk")))
    rows = workspace.documents.order_by("name")
    if document is not None:
        rows = rows.filter(pk=document)
    order = sorted(
        ((pk, digest, title, asked.get(pk, 0)) for pk, digest, title in rows.values_list("pk", "digest", "title")),
        key=lambda row: (row[3], decided_on.get(row[0], 0)),
    )
    most = count if document is not None else OF_ONE_DOCUMENT
    found: list[dict[str, Any]] = []
    for low in range(0, len(order), READ_AT_ONCE):
        some = order[low : low + READ_AT_ONCE]
        read = _read.of([pk for pk, *_ in some], {pk: digest for pk, digest, *_ in some})
        decided = set(Decision.objects.filter(document__in=list(read)).values_list("document", "text"))
        for pk, _, title, questions in some:
            left = [one for one in read[pk] if (pk, one.text) not in decided][:most]
            found += [
                {"document": pk, "title": title, "asked": questions, "rule": one.rule, "text": one.text,
                 "start": one.start, "end": one.end}
                for one in left
            ]  # fmt: skip
        if len(found) >= count:
            break
    found = found[:count]
    texts = dict(Document.objects.filter(pk__in={row["document"] for row in found}).values_list("pk", "text"))
    for row in found:
        row["answer"] = texts[row["document"]][row["start"] : row["end"]]
    return found


@transaction.atomic
def decide(
    document: Document, rule: str, text: str, start: int, end: int, words: str | None, into: QuestionSet, who: User
) -> Question | None:
    """Accept a suggestion, in these words or its own, or refuse it where `words` is None.

    Raises
    ------
    QuestionError
        If somebody has decided on it already, or the words are none, see `write_question`.
    """
    check_range(document, start, end)
    if Decision.objects.filter(document=document, text=text).exists():
        raise QuestionError("text: somebody has decided on this suggestion already")
    question = None
    if words is not None:
        question = write_question(document.workspace, words, into=into)
        add_label(question, document, start, end, 1.0, who)
    Decision.objects.create(document=document, rule=rule, text=text, question=question, who=who)
    return question


@transaction.atomic
def undecide(document: Document, text: str) -> str:
    """Take a decision back, and with it the question that came of it; returns what that was."""
    found = Decision.objects.filter(document=document, text=text).select_related("question").first()
    if found is None:
        raise QuestionError("text: nobody has decided on this suggestion")
    said = found.question.text if found.question else ""
    question = found.question
    found.delete()
    if question is not None:
        remove_question(question)
    return said
