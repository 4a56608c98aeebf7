"""A document under a recipe: its chunks and its answers."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import workspace_of
from doppio.recipes.access import RECIPE, recipe_for
from doppio.recipes.builds import chunks_of
from doppio.recipes.services import core_recipe
from doppio.stages.documents.serializers import DocumentViewSerializer
from doppio.trials.services import latest_trial


class DocumentAnswersView(APIView):
    @extend_schema(parameters=[RECIPE], responses=DocumentViewSerializer, operation_id="documentView")
    def get(self, request: Request, workspace: int, document: int) -> Response:
        """Chunk bounds and labelled answers of a document under a recipe."""
        space = workspace_of(request)
        row = get_object_or_404(space.documents.only("pk"), pk=document)
        recipe = recipe_for(space, request.query_params.get("recipe"))
        trial = latest_trial(recipe)
        chunks = chunks_of(space, core_recipe(recipe), row.pk)
        causes = dict(trial.rows.values_list("question_id", "cause")) if trial else {}
        spans = row.spans.counting().select_related("question").order_by("start")
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
