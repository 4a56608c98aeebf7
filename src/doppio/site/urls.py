"""Addresses."""

from django.urls import path, re_path
from drf_spectacular.views import SpectacularJSONAPIView

from doppio.asking.views import MatchesView, RecipesView
from doppio.indexing.views import JobCancelView, JobsView
from doppio.library.views import DocumentsView, DocumentView, SessionView, WorkspacesView
from doppio.measuring import views as measuring
from doppio.site.entry import enter, interface, sign_in
from doppio.site.health import health

handler500 = "doppio.site.health.server_error"
W = "api/workspaces/<int:workspace>"
urlpatterns = [
    path("sign-in", sign_in),
    path("enter/<str:secret>", enter),
    path("health", health),
    path("api/schema", SpectacularJSONAPIView.as_view()),
    path("api/session", SessionView.as_view()),
    path("api/workspaces", WorkspacesView.as_view()),
    path(f"{W}/documents", DocumentsView.as_view()),
    path(f"{W}/documents/<int:document>", DocumentView.as_view()),
    path(f"{W}/documents/<int:document>/answers", measuring.DocumentAnswersView.as_view()),
    path(f"{W}/jobs", JobsView.as_view()),
    path(f"{W}/jobs/<int:job>/cancel", JobCancelView.as_view()),
    path(f"{W}/recipes", RecipesView.as_view()),
    path(f"{W}/recipes/save", measuring.RecipeSaveView.as_view()),
    path(f"{W}/recipes/<int:recipe>/in-force", measuring.RecipeInForceView.as_view()),
    path(f"{W}/matches", MatchesView.as_view()),
    path(f"{W}/line", measuring.LineView.as_view()),
    path(f"{W}/questions", measuring.QuestionsView.as_view()),
    path(f"{W}/questions/<int:question>", measuring.QuestionView.as_view()),
    path(f"{W}/ask", measuring.AskView.as_view()),
    path(f"{W}/stages/chunks", measuring.ChunkStageView.as_view()),
    path(f"{W}/stages/indexes", measuring.IndexStageView.as_view()),
    path(f"{W}/trials", measuring.TrialsView.as_view()),
    path(f"{W}/mix", measuring.MixView.as_view()),
    re_path(r"^(?!api/|static/|assets/)(?P<path>.*)$", interface),
]
