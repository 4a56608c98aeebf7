"""Between records and the core: labelled questions in, trials out."""

from collections.abc import Sequence
from typing import Any

from django.contrib.auth.models import User
from django.db import connection, transaction
from django.db.models import Prefetch

from doppio.asking.models import RecipeVersion
from doppio.asking.services import core_recipe
from doppio.core.dense.survey import joined, survey
from doppio.core.errors import DoppioError
from doppio.core.measure.questions import Question as CoreQuestion
from doppio.core.measure.questions import Span
from doppio.core.measure.relevance import document_positions
from doppio.core.measure.trial import Trial, run_trial
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress
from doppio.indexing.models import Job, Survey
from doppio.indexing.services import build, open_pipeline
from doppio.library.models import Document, Workspace
from doppio.library.services import Corpus, RecordedTexts, corpus_now, corpus_of
from doppio.measuring.models import AnswerSpan, Question, TrialRecord, TrialRow

BATCH = 500
SURVEYED = 200


@transaction.atomic
def load_questions(workspace: Workspace, questions: Sequence[CoreQuestion]) -> bool:
    """Replace the workspace's questions by these, all or nothing; False where they are the same already."""
    if core_questions(workspace) == list(questions):
        return False
    workspace.questions.all().delete()
    workspace.trials.all().delete()
    documents = dict(workspace.documents.values_list("name", "pk"))
    records = Question.objects.bulk_create(
        [
            Question(
                workspace=workspace,
                identity=question.id,
                text=question.text,
                tags=list(question.tags),
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
    """The workspace's questions for the core, in their order; those that lost all of their labels are left out.

    Without its labels a question would be taken for one that nothing answers.
    """
    documents = Document.objects.only("pk", "name")
    rows = workspace.questions.prefetch_related("spans", Prefetch("spans__document", documents)).order_by("position")
    return [core_question(row) for row in rows if not is_lost(row)]


def is_lost(row: Question) -> bool:
    """Whether a question had labels, and all of them lost their place."""
    spans = row.spans.all()
    return bool(spans) and all(span.lost for span in spans)


def core_question(row: Question) -> CoreQuestion:
    spans = (span for span in row.spans.all() if not span.lost and span.document is not None)
    return CoreQuestion(
        row.identity,
        row.text,
        tuple(Span(span.document.name, span.start, span.end, span.grade) for span in spans),
        tuple(row.tags),
    )


def measure_in_force(sender: object, workspace: Workspace, **_: object) -> None:
    """Build and measure the recipe in force once the documents have changed."""
    recipe = workspace.recipes.filter(in_force=True).first()
    if recipe is not None and workspace.documents.exists() and latest_trial(recipe) is None:
        start_trial(recipe, None)


def latest_trial(recipe: RecipeVersion) -> TrialRecord | None:
    """The newest trial of a recipe on the present documents."""
    return recipe.trials.filter(corpus=corpus_of(recipe.workspace)).order_by("-pk").first()


def start_trial(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the build and the trial of a recipe; one that waits or runs already is returned instead."""
    from doppio.measuring.tasks import trial_task

    title = f"Build and measure {recipe.name} v{recipe.version}"
    return queue_job(recipe, user, kind="trial", title=title, task=trial_task)


def start_survey(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the measuring of structures on a recipe's vectors; one that waits or runs already is returned instead."""
    from doppio.measuring.tasks import survey_task

    title = f"Measure structures on the vectors of {recipe.name} v{recipe.version}"
    return queue_job(recipe, user, kind="survey", title=title, task=survey_task)


@transaction.atomic
def queue_job(recipe: RecipeVersion, user: User | None, *, kind: str, title: str, task: Any) -> Job:
    """Queue work on a recipe; a job of that kind that waits or runs already is returned instead."""
    Workspace.objects.select_for_update().get(pk=recipe.workspace_id)
    waiting = recipe.workspace.jobs.filter(
        kind=kind, details__recipe=recipe.pk, state__in=(Job.QUEUED, Job.RUNNING), cancel_requested=False
    ).first()
    # One that runs over documents that have changed since will not say what is wanted: another one does after it.
    if waiting is not None and waiting.details.get("corpus") in (None, corpus_of(recipe.workspace)):
        return waiting
    job = Job.objects.create(
        workspace=recipe.workspace, kind=kind, title=title, details={"recipe": recipe.pk}, started_by=user
    )
    task.defer(job=job.pk)
    return job


def survey_recipe(recipe: RecipeVersion, progress: Progress) -> Survey:
    """Measure every structure on the vectors of a recipe that has been built, with its labelled questions."""
    from doppio.measuring.stages import dense_branch, survey_key

    workspace = recipe.workspace
    core = core_recipe(recipe)
    pipeline = open_pipeline(workspace, core)
    if pipeline is None:
        raise DoppioError("The recipe is not built for the present documents; run its trial first.")
    branch = dense_branch(pipeline)
    if branch is None:
        raise DoppioError("This recipe has no dense branch.")
    texts = [question.text for question in core_questions(workspace)][:SURVEYED]
    asked = texts or pipeline.texts.texts(range(min(SURVEYED, len(pipeline.chunks))))
    vectors = joined(pipeline.vectors[branch["id"]])
    questions = pipeline.encoders[branch["id"]].questions(asked)
    points = [point.as_json() for point in survey(vectors, questions, branch["metric"], progress)]
    found, _ = Survey.objects.update_or_create(
        workspace=workspace,
        key=survey_key(workspace, pipeline, branch),
        defaults={"points": points, "questions": len(asked)},
    )
    return found


def positions(pipeline: Pipeline) -> dict[str, int]:
    """Position of each document in a pipeline's chunk table, by name."""
    assert isinstance(pipeline.texts, RecordedTexts)
    return document_positions(pipeline.texts.corpus.names)


def measure_recipe(recipe: RecipeVersion, progress: Progress, job: Job | None = None) -> TrialRecord:
    """Build what a recipe lacks, ask all questions, and record the trial."""
    workspace = recipe.workspace
    with transaction.atomic():
        # Labels and documents of one moment: who changes documents moves their labels in one go.
        with connection.cursor() as cursor:
            if not connection.savepoint_ids:
                cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        corpus, questions = corpus_now(workspace), core_questions(workspace)
    if job is not None:
        job.details = {**job.details, "corpus": corpus.key}
        job.save(update_fields=["details"])
    pipeline = build(workspace, core_recipe(recipe), progress, corpus)
    result = run_trial(pipeline, corpus.names, questions, progress=progress)
    return _record(recipe, corpus, result, len(pipeline.chunks), job)


@transaction.atomic
def _record(recipe: RecipeVersion, corpus: Corpus, result: Trial, chunks: int, job: Job | None) -> TrialRecord:
    record = TrialRecord.objects.create(
        workspace=recipe.workspace,
        recipe=recipe,
        job=job,
        corpus=corpus.key,
        documents=len(corpus.names),
        stages=result.stages,
        levels=result.levels,
        ledger=result.ledger,
        seconds=result.seconds,
        chunks=chunks,
        intact=result.intact,
        answerable=result.answerable,
        questions=len(result.rows),
    )
    numbers = dict(recipe.workspace.questions.values_list("identity", "pk"))
    TrialRow.objects.bulk_create(
        [
            TrialRow(
                trial=record,
                question_id=numbers[row.question.id],
                cause=row.cause,
                ranks=row.ranks,
                in_play=row.in_play,
                intact=list(row.relevance.intact),
                trace=row.trace.to_json(),
            )
            for row in result.rows
        ],
        BATCH,
    )
    return record
