"""Addresses: each app and each stage has its own."""

from django.urls import include, path, re_path
from drf_spectacular.views import SpectacularJSONAPIView

from doppio.library.carrying_views import ImportView
from doppio.library.views import SessionView
from doppio.library.workspace_views import PasswordView, WorkspacesView
from doppio.recipes.catalogue import CatalogueView
from doppio.recipes.views import EncodersView
from doppio.site.entry import enter, interface, sign_in
from doppio.site.health import health
from doppio.stages.reranked.views import RestsOnView, ScorersView, TryScorerView

handler500 = "doppio.site.health.server_error"
handler404 = "doppio.site.errors.not_found"
handler400 = "doppio.site.errors.bad_request"
STAGES = ("line", "asked", "draft", "documents", "chunks", "sparse", "dense", "fused", "reranked")
PARTS = [
    "library",
    "jobs",
    "imports",
    "recipes",
    "questions",
    "trials",
    "serving",
    *(f"stages.{stage}" for stage in STAGES),
]
urlpatterns = [
    path("sign-in", sign_in),
    path("enter/<str:secret>", enter),
    path("health", health),
    path("api/schema", SpectacularJSONAPIView.as_view()),
    path("api/session", SessionView.as_view()),
    path("api/session/password", PasswordView.as_view()),
    path("api/kinds", CatalogueView.as_view()),
    path("api/encoders", EncodersView.as_view()),
    path("api/scorers", ScorersView.as_view()),
    path("api/scorers/try", TryScorerView.as_view()),
    path("api/scorers/rests-on", RestsOnView.as_view()),
    path("api/workspaces", WorkspacesView.as_view()),
    path("api/workspaces/import", ImportView.as_view()),
    *(path("api/workspaces/<int:workspace>/", include(f"doppio.{part}.urls")) for part in PARTS),
    path("serve/<slug:name>/", include("doppio.serving.served_urls")),
    re_path(r"^(?!api/|serve/|static/|assets/)(?P<path>.*)$", interface),
]
