"""Questions, the line, trials, and the stage views that need labels."""

from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.asking.explain import traced_chunks
from doppio.asking.models import RecipeVersion
from doppio.asking.serializers import AskedBeforeSerializer, AskSerializer, NewRecipeSerializer, RecipeSerializer
from doppio.asking.services import (
    absent,
    answered,
    ask,
    core_recipe,
    pipelines,
    put_in_force,
    save_recipe,
    stage_kinds,
)
from doppio.asking.views import PROBLEM, recipe_for
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import cause, in_play
from doppio.core.measure.relevance import Relevance, relevance
from doppio.core.pipeline import Pipeline
from doppio.core.recipe import check_chunking
from doppio.core.trace import Trace
from doppio.indexing.serializers import JobSerializer
from doppio.indexing.services import chunks_of
from doppio.library.access import workspace_for
from doppio.library.events import IN_FORCE, LABEL_REMOVED, note
from doppio.library.models import Workspace
from doppio.library.services import corpus_of, section_headings
from doppio.library.turns import ASKING, HEAVY
from doppio.library.views import page_size
from doppio.measuring.chunk_view import cut_view, figures_view
from doppio.measuring.labels import lost_labels, place_label, remove_label
from doppio.measuring.line import line
from doppio.measuring.mix import mix_curve
from doppio.measuring.models import AnswerSpan, Question, TrialRecord, TrialRow
from doppio.measuring.serializers import (
    AskedSerializer,
    ChunkFiguresSerializer,
    ChunkingSerializer,
    CutRequestSerializer,
    CutSerializer,
    DocumentViewSerializer,
    LabelPlaceSerializer,
    LineSerializer,
    LostLabelSerializer,
    MixSerializer,
    NewTrialSerializer,
    QuestionRowSerializer,
    SavedRecipeSerializer,
    TrialSerializer,
)
from doppio.measuring.services import core_question, is_lost, latest_trial, measure_in_force, positions, start_trial

NAMED, ASKED_SHOWN = 20, 50
RECIPE = OpenApiParameter("recipe", int, description="A recipe; the one in force where it is left out.")


class LineView(APIView):
    @extend_schema(parameters=[RECIPE], responses=LineSerializer, operation_id="line")
    def get(self, request: Request, workspace: int) -> Response:
        place = workspace_for(request, workspace)
        return Response(line(place, recipe_for(place, request.query_params.get("recipe"))))


class QuestionsView(APIView):
    @extend_schema(
        parameters=[
            RECIPE,
            OpenApiParameter("after", int, description="Only questions after this one, by its id."),
            OpenApiParameter("limit", int, description="At most so many; 1000 where it is left out, and never more."),
        ],
        responses=QuestionRowSerializer(many=True),
        operation_id="questions",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """The questions in their order, a page at a time, with what became of each."""
        place = workspace_for(request, workspace)
        trial = latest_trial(recipe_for(place, request.query_params.get("recipe")))
        questions = place.questions.prefetch_related("spans")
        after = request.query_params.get("after", "")
        if after.isdecimal():
            questions = questions.filter(position__gt=get_object_or_404(place.questions, pk=int(after)).position)
        rows = list(questions[: page_size(request)])
        kept = trial.rows.filter(question__in=rows) if trial else TrialRow.objects.none()
        found = {row["question_id"]: row for row in kept.values("question_id", "cause", "ranks", "intact")}
        return Response([_question_row(row, found.get(row.pk)) for row in rows])


def _question_row(row: Question, found: dict[str, Any] | None) -> dict[str, Any]:
    return {
        "id": row.pk,
        "identity": row.identity,
        "text": row.text,
        "tags": row.tags,
        "answerable": any(not span.lost for span in row.spans.all()),
        "lost": is_lost(row),
        "cause": found["cause"] if found else None,
        "ranks": found["ranks"] if found else {},
        "intact": any(found["intact"]) if found and found["intact"] else None,
    }


class QuestionView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: AskedSerializer, 409: PROBLEM}, operation_id="question")
    @ASKING.turn()
    def get(self, request: Request, workspace: int, question: int) -> Response:
        """A labelled question, asked now."""
        place = workspace_for(request, workspace)
        row = get_object_or_404(place.questions.prefetch_related("spans__document__sections"), pk=question)
        recipe = recipe_for(place, request.query_params.get("recipe"))
        pipeline, trace = answered(place, core_recipe(recipe), row.text)
        labelled = core_question(row)
        relevant = relevance(pipeline.chunks, positions(pipeline), labelled)
        body = _asked(place, pipeline, trace, relevant)
        body["question"] = _question_row(row, None)
        body["spans"] = _spans(row, relevant)
        body["cause"] = cause(trace, relevant, labelled.answerable)
        return Response(body)


class AskView(APIView):
    @extend_schema(responses=AskedBeforeSerializer(many=True), operation_id="askedBefore")
    def get(self, request: Request, workspace: int) -> Response:
        """What this person asked before, the latest first."""
        rows = workspace_for(request, workspace).asked.filter(asked_by=request.user)
        return Response(AskedBeforeSerializer(rows[:ASKED_SHOWN], many=True).data)

    @extend_schema(request=AskSerializer, responses={200: AskedSerializer, 409: PROBLEM}, operation_id="ask")
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Any question, asked now."""
        asked = AskSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        recipe = recipe_for(place, asked.validated_data.get("recipe"))
        pipeline, trace = ask(recipe, asked.validated_data["text"], request.user)
        return Response(_asked(place, pipeline, trace, None))


def _asked(place: Workspace, pipeline: Pipeline, trace: Trace, relevant: Relevance | None) -> dict[str, Any]:
    missing = absent(place, pipeline)
    return {
        "absent": {"count": len(missing), "documents": [{"id": pk, "title": title} for pk, title in missing[:NAMED]]},
        "kinds": stage_kinds(pipeline.recipe),
        "question": None,
        "spans": [],
        "trace": trace.to_json(),
        "cause": None,
        "in_play": in_play(trace, relevant) if relevant is not None else {},
        "ranks": {stage.stage: relevant.first(stage.chunks) for stage in trace.stages} if relevant else {},
        "chunks": traced_chunks(pipeline, trace, relevant),
    }


def _spans(row: Question, relevant: Relevance) -> list[dict[str, Any]]:
    spans = [span for span in row.spans.all() if not span.lost]
    paths = section_headings(span.document_id for span in spans)
    found = []
    for span, chunks, intact in zip(spans, relevant.chunks, relevant.intact, strict=True):
        text = "" if span.start is None else span.document.text[span.start : span.end]
        inside = [
            section.index
            for section in span.document.sections.all()
            if span.start is not None and section.start <= span.start and section.end >= span.end
        ]
        found.append(
            {
                "document": span.document_id,
                "title": span.document.title,
                "section": paths.get((span.document_id, inside[-1]), []) if inside else [],
                "start": span.start,
                "end": span.end,
                "grade": span.grade,
                "text": text,
                "intact": intact,
                "chunks": chunks.tolist(),
            }
        )
    return found


class DocumentAnswersView(APIView):
    @extend_schema(parameters=[RECIPE], responses=DocumentViewSerializer, operation_id="documentView")
    def get(self, request: Request, workspace: int, document: int) -> Response:
        """Chunk bounds and labelled answers of a document under a recipe."""
        place = workspace_for(request, workspace)
        row = get_object_or_404(place.documents.only("pk"), pk=document)
        recipe = recipe_for(place, request.query_params.get("recipe"))
        trial = latest_trial(recipe)
        chunks = chunks_of(place, core_recipe(recipe), row.pk)
        causes = dict(trial.rows.values_list("question_id", "cause")) if trial else {}
        spans = row.spans.filter(lost=False).select_related("question").order_by("start")
        return Response(
            {
                "chunks": chunks,
                "answers": [
                    {
                        "question": span.question_id,
                        "text": span.question.text,
                        "start": span.start,
                        "end": span.end,
                        "cause": causes.get(span.question_id),
                    }
                    for span in spans
                ],
            }
        )


class CutView(APIView):
    @extend_schema(
        request=CutRequestSerializer, responses={200: CutSerializer, 400: PROBLEM}, operation_id="cutDocument"
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Cut one document by any settings, now; nothing is built or kept."""
        given = CutRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        row = get_object_or_404(place.documents.prefetch_related("sections"), pk=given.validated_data["document"])
        return Response(cut_view(row, check_chunking(given.validated_data["chunking"])))


class ChunkFiguresView(APIView):
    @extend_schema(
        request=ChunkingSerializer, responses={200: ChunkFiguresSerializer, 400: PROBLEM}, operation_id="chunkFigures"
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Cut all documents by any settings and say what is wrong with it; nothing is built or kept."""
        given = ChunkingSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(
            figures_view(workspace_for(request, workspace), check_chunking(given.validated_data["chunking"]))
        )


class LostLabelsView(APIView):
    @extend_schema(responses=LostLabelSerializer(many=True), operation_id="lostLabels")
    def get(self, request: Request, workspace: int) -> Response:
        """Labels that lost their place when their document changed or went."""
        return Response(lost_labels(workspace_for(request, workspace)))


class LabelView(APIView):
    @extend_schema(request=LabelPlaceSerializer, responses={204: None, 400: PROBLEM}, operation_id="placeLabel")
    def put(self, request: Request, workspace: int, label: int) -> Response:
        """Put a label where a person says."""
        given = LabelPlaceSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        span = get_object_or_404(AnswerSpan.objects.filter(question__workspace=place), pk=label)
        document = get_object_or_404(place.documents, pk=given.validated_data["document"])
        place_label(span, document, given.validated_data["start"], given.validated_data["end"])
        measure_in_force(self, place)
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="removeLabel")
    def delete(self, request: Request, workspace: int, label: int) -> Response:
        """Remove a label; a question without another one goes with it."""
        place = workspace_for(request, workspace)
        span = get_object_or_404(
            AnswerSpan.objects.select_related("question").filter(question__workspace=place), pk=label
        )
        with transaction.atomic():
            note(LABEL_REMOVED, request, workspace=place, question=span.question.identity, quote=span.quote,
                 document=span.document_name or (span.document.name if span.document else ""))  # fmt: skip
            remove_label(span)
        measure_in_force(self, place)
        return Response(status=204)


class RecipeSaveView(APIView):
    @extend_schema(
        request=NewRecipeSerializer, responses={201: SavedRecipeSerializer, 400: PROBLEM}, operation_id="saveRecipe"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Save a recipe as a new version, put it in force and measure it."""
        given = NewRecipeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        saved = save_recipe(place, given.validated_data["body"], user=request.user, note=given.validated_data["note"])
        note(IN_FORCE, request, workspace=place, recipe=saved.pk, named=f"{saved.name} v{saved.version}")
        return Response(_in_force(saved, request), status=201)


class RecipeInForceView(APIView):
    @extend_schema(request=None, responses=SavedRecipeSerializer, operation_id="putInForce")
    def post(self, request: Request, workspace: int, recipe: int) -> Response:
        """Put a saved recipe in force; it is measured if it has no trial on the present documents."""
        place = workspace_for(request, workspace)
        found = recipe_for(place, recipe)
        put_in_force(found)
        note(IN_FORCE, request, workspace=place, recipe=found.pk, named=f"{found.name} v{found.version}")
        return Response(_in_force(found, request))


def _in_force(recipe: RecipeVersion, request: Request) -> dict[str, Any]:
    """The recipe, and the job that measures it where it has no trial on the present documents."""
    job = None if latest_trial(recipe) else start_trial(recipe, request.user)
    return {"recipe": RecipeSerializer(recipe).data, "job": JobSerializer(job).data if job else None}


class TrialsView(APIView):
    @extend_schema(responses=TrialSerializer(many=True), operation_id="trials")
    def get(self, request: Request, workspace: int) -> Response:
        """The newest trial of every recipe, newest first."""
        place = workspace_for(request, workspace)
        corpus = corpus_of(place)
        newest = place.trials.order_by("recipe_id", "-pk").distinct("recipe_id").values("pk")
        rows = place.trials.filter(pk__in=newest).select_related("recipe").order_by("-pk")
        return Response([_trial(row, corpus) for row in rows])

    @extend_schema(request=NewTrialSerializer, responses={202: JobSerializer}, operation_id="startTrial")
    def post(self, request: Request, workspace: int) -> Response:
        given = NewTrialSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        recipe = recipe_for(workspace_for(request, workspace), given.validated_data["recipe"])
        return Response(JobSerializer(start_trial(recipe, request.user)).data, status=202)


def _trial(row: TrialRecord, corpus: str) -> dict[str, Any]:
    low, high = wilson(row.ledger["delivered"], row.answerable)
    fields = ("stages", "levels", "ledger", "seconds", "chunks", "intact", "answerable", "questions", "measured_at")
    return {
        "id": row.pk,
        "recipe": RecipeSerializer(row.recipe).data,
        "kinds": stage_kinds(core_recipe(row.recipe)),
        "current": row.corpus == corpus,
        "low": low,
        "high": high,
        **{name: getattr(row, name) for name in fields},
    }


class MixView(APIView):
    @extend_schema(
        parameters=[RECIPE, OpenApiParameter("question", int)],
        responses={200: MixSerializer, 404: PROBLEM},
        operation_id="mix",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """recall@k as the weight moves from one branch to the other, over all labelled questions or for one."""
        place = workspace_for(request, workspace)
        recipe = recipe_for(place, request.query_params.get("recipe"))
        core = core_recipe(recipe)
        trial = latest_trial(recipe)
        branches = [branch["id"] for branch in core.branches]
        body = {"branches": branches, "k": core.passed_by_fusion, "rrf_k": core.fusion.get("k", 60), "points": []}
        if trial is None or len(branches) != 2:
            return Response({**body, "questions": 0})
        pipeline = pipelines.whole(place, core)
        table, where = pipeline.chunks, positions(pipeline)
        wanted = request.query_params.get("question", "")
        kept = trial.rows.filter(question=int(wanted)) if wanted.isdecimal() else trial.rows.all()
        kept = kept.select_related("question").prefetch_related("question__spans__document")
        rows = [row for row in kept if any(not span.lost for span in row.question.spans.all())]
        points = mix_curve(
            [Trace.from_json(row.trace) for row in rows],
            [relevance(table, where, core_question(row.question)) for row in rows],
            branches,
            k=body["k"],
            rrf_k=body["rrf_k"],
        )
        return Response({**body, "questions": len(rows), "points": points})
