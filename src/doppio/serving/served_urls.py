"""Addresses that assistants ask, below `/serve/`."""

from django.http import HttpRequest, JsonResponse
from django.urls import path, re_path
from django.views.decorators.csrf import csrf_exempt

from doppio.serving import served_views as views


@csrf_exempt
def nothing_here(request: HttpRequest, name: str, rest: str) -> JsonResponse:
    """An address below a published name that is none: an assistant is told what there is, with a key or without."""
    there = ", ".join(str(one.pattern) for one in urlpatterns[:-1] if "<" not in str(one.pattern))
    return JsonResponse({"detail": f"Nothing answers at /serve/{name}/{rest[:80]}; {there} do."}, status=404)


nothing_here.for_visitors = True  # type: ignore[attr-defined]

urlpatterns = [
    path("search", views.SearchView.as_view()),
    path("answer", views.AnswerView.as_view()),
    path("feedback", views.FeedbackView.as_view()),
    path("health", views.HealthView.as_view()),
    path("documents", views.DocumentsView.as_view()),
    path("documents/<int:document>", views.DocumentView.as_view()),
    path("documents/<int:document>/figures/<int:number>", views.FigureView.as_view()),
    path("metrics", views.MetricsView.as_view()),
    path("mcp", views.ProtocolView.as_view()),
    re_path(r"^(?P<rest>.*)$", nothing_here),
]
