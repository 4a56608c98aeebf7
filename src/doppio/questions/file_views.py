"""Questions in and out as files."""

import json
from typing import Any

from django.db import transaction
from django.http import QueryDict, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.exceptions import ValidationError
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import QuestionError
from doppio.core.formats.question_table import Columns, read_sheet
from doppio.core.text.canonical import canonical
from doppio.library.access import person, workspace_of
from doppio.library.events import QUESTIONS_IMPORTED, note
from doppio.library.models import Workspace
from doppio.library.problems import PROBLEM
from doppio.questions import importing
from doppio.questions.exporting import FORMS, exported, exported_for_cut
from doppio.questions.file_serializers import ImportOptionsSerializer, QuestionFileSerializer, QuestionsSeenSerializer
from doppio.questions.services import positions
from doppio.questions.sets import make_set
from doppio.questions.writing import set_for
from doppio.recipes.access import recipe_for
from doppio.recipes.opened import pipelines
from doppio.recipes.services import core_recipe

LARGEST = 64 * 2**20
FORM = OpenApiParameter("form", str, enum=list(FORMS), description="jsonl where it is left out.")
CUT = OpenApiParameter("recipe", int, description="Judgements (qrels) on the chunks of this recipe's cut.")


class QuestionFileView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": QuestionFileSerializer},
        responses={200: QuestionsSeenSerializer, 400: PROBLEM},
        operation_id="importQuestions",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Look at a file of questions, and write them where `write` is true: all or nothing, unless told to skip."""
        space = workspace_of(request)
        options = _options(request)
        file, qrels = request.FILES.get("file"), request.FILES.get("qrels")
        if file is None and qrels is None:
            raise ValidationError({"detail": "file: missing; give a file of questions, or judgements as qrels"})
        for one in (file, qrels):
            if one is not None and one.size > LARGEST:
                raise QuestionError(f"{one.name}: {one.size:,} bytes; at most {LARGEST:,} are read at once")
        sheet = read_sheet(file.read(), file.name) if file is not None else None
        names = sheet.names if sheet is not None else ()
        columns = Columns.guessed(names)
        if options["columns"] is not None and names:
            columns = Columns.chosen(options["columns"], names)
        into = set_for(space, options["set"]) if options["set"] is not None else None
        judgements = qrels.read() if qrels is not None else None
        with transaction.atomic(), importing.uncollected():
            if options["write"]:
                # One after another, so that ids that are free stay free.
                Workspace.objects.select_for_update().get(pk=space.pk)
            seen = importing.look(
                space, into, sheet, judgements, columns=columns if names else None,
                on_canonical=options["offsets"] == "canonical", choices=options["choices"],
            )  # fmt: skip
            written = None
            said = importing.to_json(seen)
            if options["write"]:
                if seen.open and not options["skip"]:
                    raise QuestionError(
                        f"{len(seen.wrong)} lines are wrong and "
                        f"{sum(not doubt.chosen for doubt in seen.doubts)} quotes stand in several places; "
                        "mend them, or say that they are to be left out"
                    )
                into = into or make_set(space, options["new_set"] or _set_name(file or qrels))
                written = importing.write(space, into, seen, person(request))
                name = (file or qrels).name
                about: dict[str, Any] = {"set": into.name, "file": name, **written}
                note(QUESTIONS_IMPORTED, request, workspace=space, **about)
        return Response(
            {
                **said,
                "form": sheet.form if sheet is not None else "judgements",
                "names": list(names),
                "columns": vars(columns),
                "set": into.pk if into is not None and written is not None else None,
                "written": written,
            }
        )


class QuestionsOutView(APIView):
    @extend_schema(
        parameters=[FORM, CUT],
        responses={(200, "application/octet-stream"): OpenApiTypes.BINARY, 400: PROBLEM, 409: PROBLEM},
        operation_id="exportQuestions",
    )
    def get(self, request: Request, workspace: int, number: int) -> StreamingHttpResponse:
        """The questions of a set with their labels, as a file."""
        space = workspace_of(request)
        found = get_object_or_404(space.question_sets, pk=number)
        form = request.query_params.get("form", "jsonl")
        if form not in FORMS:
            raise QuestionError(f"form: {form!r} is none; there are {', '.join(FORMS)}")
        _, ending = FORMS[form]
        recipe = request.query_params.get("recipe")
        if recipe is None:
            lines = exported(found, form)
        elif form != "qrels":
            raise QuestionError("recipe: a cut has judgements alone; ask for the form qrels")
        else:
            pipeline = pipelines.whole(space, core_recipe(recipe_for(space, recipe)))
            lines = exported_for_cut(found, pipeline.chunks, positions(pipeline))
        response = StreamingHttpResponse(lines, content_type="application/octet-stream")
        plain = "".join(sign if sign.isascii() and (sign.isalnum() or sign in "-_") else "-" for sign in found.name)
        response["Content-Disposition"] = f'attachment; filename="{plain or "questions"}.{ending}"'
        return response


def _options(request: Request) -> dict[str, Any]:
    text = request.data.get("options", "{}") if isinstance(request.data, QueryDict) else "{}"
    try:
        body = json.loads(text)
    except (TypeError, ValueError):
        raise ValidationError({"detail": "options: not JSON"}) from None
    if not isinstance(body, dict):
        raise ValidationError({"detail": "options: not an object"})
    given = ImportOptionsSerializer(data=body)
    given.is_valid(raise_exception=True)
    return dict(given.validated_data)


def _set_name(file: Any) -> str:
    return canonical(str(file.name).rsplit("/", 1)[-1].rsplit(".", 1)[0])[:110].strip() or "Imported"
