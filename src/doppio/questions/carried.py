"""What a workspace's file holds of questions: sets, questions with labels and judges, decisions."""

from collections.abc import Iterator

from django.db.models import Prefetch
from django.utils.dateparse import parse_datetime

from doppio.library import pictures
from doppio.library.carrying import People, Row, batches, carried, fields_of
from doppio.library.models import Document, Workspace
from doppio.questions.models import AnswerSpan, Decision, Question, QuestionSet

AT_ONCE = 500
QUESTION = ("identity", "text", "tags", "group", "unanswerable", "only", "position", "marked")
# What older files do not have.
LATER: Row = {"only": "", "picture": "", "share": 0.5}
LABEL = ("document_name", "quote", "lost", "start", "end", "grade")


class Sets:
    """The question sets."""

    name = "question-sets"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        for row in workspace.question_sets.order_by("pk"):
            yield {"name": row.name, "note": row.note, "measured": row.measured}

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        for row in rows:
            QuestionSet.objects.create(workspace=workspace, **fields_of(row, "name", "note", "measured"))


class Questions:
    """Questions with their labels, those that lost their place too."""

    name = "questions"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        documents = Document.objects.only("pk", "name")
        spans = AnswerSpan.objects.select_related("judge").order_by("pk")
        found = workspace.questions.order_by("position").select_related("set")
        found = found.prefetch_related(Prefetch("spans", spans), Prefetch("spans__document", documents))
        for row in found.iterator(chunk_size=AT_ONCE):
            yield {
                "set": row.set.name,
                **{name: getattr(row, name) for name in QUESTION},
                "picture": pictures.packed_asked(row.picture),
                "share": row.share,
                "labels": [
                    {
                        "document": span.document.name if span.document else None,
                        **{name: getattr(span, name) for name in LABEL},
                        "judge": span.judge.get_username() if span.judge else None,
                        "judged_at": span.judged_at.isoformat() if span.judged_at else None,
                    }
                    for span in row.spans.all()
                ],
            }

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        sets = {row.name: row for row in workspace.question_sets.all()}
        documents = dict(workspace.documents.values_list("name", "pk"))
        for some in batches(rows, AT_ONCE):
            made = [
                Question(
                    workspace=workspace, set=sets[row["set"]], **fields_of(LATER | row, *QUESTION),
                    picture=pictures.unpacked_asked((LATER | row)["picture"]), share=(LATER | row)["share"],
                )
                for row in some
            ]  # fmt: skip
            self._keep(list(zip(made, some, strict=True)), documents, people)

    @staticmethod
    def _keep(batch: list[tuple[Question, Row]], documents: dict[str, int], people: People) -> None:
        Question.objects.bulk_create([made for made, _ in batch])
        spans: list[AnswerSpan] = []
        times: list[str | None] = []
        for made, row in batch:
            for label in row["labels"]:
                document = documents[label["document"]] if label["document"] is not None else None
                judge = people.of(label["judge"])
                spans.append(AnswerSpan(question=made, document_id=document, judge=judge, **fields_of(label, *LABEL)))
                times.append(label["judged_at"])
        AnswerSpan.objects.bulk_create(spans)
        for span, time in zip(spans, times, strict=True):
            span.judged_at = parse_datetime(time) if time else None
        AnswerSpan.objects.bulk_update(spans, ["judged_at"], AT_ONCE)


class Decisions:
    """What people made of suggestions."""

    name = "decisions"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        found = Decision.objects.filter(document__workspace=workspace).order_by("pk")
        for row in found.select_related("question", "who").prefetch_related(
            Prefetch("document", Document.objects.only("pk", "name"))
        ):
            yield {
                "document": row.document.name, "rule": row.rule, "text": row.text,
                "question": row.question.identity if row.question else None,
                "who": row.who.get_username() if row.who else None,
            }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        documents = dict(workspace.documents.values_list("name", "pk"))
        questions = dict(workspace.questions.values_list("identity", "pk"))
        Decision.objects.bulk_create(
            [
                Decision(document_id=documents[row["document"]], rule=row["rule"], text=row["text"],
                         question_id=questions[row["question"]] if row["question"] else None,
                         who=people.of(row["who"]))
                for row in rows
            ],
            AT_ONCE,
        )  # fmt: skip


def connect() -> None:
    """Register the parts."""
    for part in (Sets(), Questions(), Decisions()):
        carried(part)
