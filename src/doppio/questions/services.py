"""Labelled questions in and out."""

from collections.abc import Sequence
from dataclasses import replace

from django.db import transaction
from django.db.models import Prefetch

from doppio.core.measure.questions import Question as CoreQuestion
from doppio.core.measure.questions import Span
from doppio.core.measure.relevance import document_positions
from doppio.core.pipeline import Pipeline
from doppio.core.question.reading import Beside
from doppio.library import pictures
from doppio.library.models import Document, Workspace
from doppio.library.texts import RecordedTexts
from doppio.library.workspaces import marked
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.writing import set_for

BATCH = 500


@transaction.atomic
def load_questions(workspace: Workspace, questions: Sequence[CoreQuestion]) -> bool:
    """Replace the questions of the first set by these, all or nothing; False where they are the same already."""
    into = set_for(workspace)
    if [replace(question, rejected=()) for question in core_questions(workspace)] == list(questions):
        return False
    into.questions.all().delete()
    marked(workspace)
    documents = dict(workspace.documents.values_list("name", "pk"))
    records = Question.objects.bulk_create(
        [
            Question(
                workspace=workspace,
                set=into,
                identity=question.id,
                text=question.text,
                tags=list(question.tags),
                unanswerable=not question.spans,
                only=question.only,
                picture=pictures.keep_asked(question.picture, "picture.png") if question.picture else "",
                share=question.share,
                position=position,
            )
            for position, question in enumerate(questions)
        ],
        BATCH,
    )
    AnswerSpan.objects.bulk_create(
        [
            AnswerSpan(
                question=record,
                document_id=documents[span.document],
                start=span.start,
                end=span.end,
                grade=span.grade,
            )
            for record, question in zip(records, questions, strict=True)
            for span in question.spans
        ],
        BATCH,
    )
    return True


def core_questions(workspace: Workspace) -> list[CoreQuestion]:
    """The questions for the core that trials ask, in their order: those of measured sets that are labelled.

    Without its labels a question would be taken for one that nothing answers.
    """
    documents = Document.objects.only("pk", "name")
    rows = workspace.questions.filter(set__measured=True).order_by("position")
    rows = rows.prefetch_related("spans", Prefetch("spans__document", documents))
    return [core_question(row) for row in rows if is_labelled(row)]


def pictures_kept(sender: object, digests: set[str], **_: object) -> set[str]:
    """Which pictures questions are asked by."""
    return set(Question.objects.filter(picture__in=digests).values_list("picture", flat=True)) if digests else set()


def is_labelled(row: Question) -> bool:
    """Whether it is known what answers a question, or that nothing does."""
    return row.unanswerable or any(span.counts for span in row.spans.all())


def is_lost(row: Question) -> bool:
    """Whether a question had labels, and all of them lost their place."""
    spans = [span for span in row.spans.all() if span.grade > 0]
    return bool(spans) and all(span.lost for span in spans)


def counted(sender: object, workspace: Workspace, **_: object) -> dict[str, int]:
    """How many questions and labels a workspace holds."""
    labels = AnswerSpan.objects.filter(question__workspace=workspace, lost=False)
    return {"questions": workspace.questions.count(), "labels": labels.count()}


def core_question(row: Question) -> CoreQuestion:
    placed = [span for span in row.spans.all() if not span.lost and span.document is not None]
    return CoreQuestion(
        row.identity,
        row.text,
        tuple(_core_span(span) for span in placed if span.grade > 0),
        tuple(row.tags),
        tuple(_core_span(span) for span in placed if span.grade == 0),
        row.group,
        row.only,
        pictures.asked(row.picture) if row.picture else None,
        row.share,
    )


def beside_of(row: Question) -> Beside:
    """What belongs to a question besides its words; labels are not read for it."""
    picture = pictures.asked(row.picture) if row.picture else None
    return CoreQuestion(row.identity, row.text, only=row.only, picture=picture, share=row.share).beside


def _core_span(span: AnswerSpan) -> Span:
    assert span.document is not None
    return Span(span.document.name, span.start, span.end, span.grade)


def positions(pipeline: Pipeline) -> dict[str, int]:
    """Position of each document in a pipeline's chunk table, by name."""
    assert isinstance(pipeline.texts, RecordedTexts)
    return document_positions(pipeline.texts.corpus.names)
