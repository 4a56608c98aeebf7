"""Reports of trials, to be handed to somebody without an account."""

import re
from pathlib import Path

from django.conf import settings
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DoppioError
from doppio.jobs.turns import HEAVY
from doppio.library.access import workspace_of
from doppio.library.problems import PROBLEM
from doppio.trials.models import TrialRecord
from doppio.trials.report import page, pdf

AGAINST = OpenApiParameter("against", int, description="A trial that it is compared with.")
FORM = OpenApiParameter("form", str, enum=["html", "pdf"], description="A page, which is the default, or a PDF.")
FONTS = Path("assets")


class ReportView(APIView):
    @extend_schema(
        parameters=[FORM, AGAINST],
        responses={(200, "text/html"): OpenApiTypes.STR, (200, "application/pdf"): OpenApiTypes.BINARY, 400: PROBLEM},
        operation_id="trialReport",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int, trial: int) -> Response | HttpResponse:
        """A trial as a page that needs nothing else, or as a PDF."""
        one = _trial(request, trial)
        given = request.query_params.get("against", "")
        if given and not given.isdecimal():
            raise DoppioError(f"against: {given!r} is not the number of a trial")
        against = _trial(request, int(given)) if given else None
        form = request.query_params.get("form", "html")
        if form not in ("html", "pdf"):
            raise DoppioError(f"form: {form!r} is neither html nor pdf")
        name = re.sub(r"[^\w-]+", "-", f"{one.recipe.name}-v{one.recipe.version}-trial-{one.pk}")
        if form == "pdf":
            made = pdf(one, against, Path(settings.WEB_DIST) / FONTS)
            answer = HttpResponse(made, content_type="application/pdf")
        else:
            answer = HttpResponse(page(one, against), content_type="text/html; charset=utf-8")
        # Kept as a file: a page that somebody wrote titles of is not opened where people are signed in.
        answer["Content-Disposition"] = f'attachment; filename="{name}.{form}"'
        return answer


def _trial(request: Request, number: int) -> TrialRecord:
    rows = TrialRecord.objects.select_related("recipe", "workspace")
    return get_object_or_404(rows, workspace=workspace_of(request), pk=number)
