"""Addresses."""

from django.urls import path, re_path
from drf_spectacular.views import SpectacularJSONAPIView

from doppio.asking.catalogue import CatalogueView
from doppio.asking.views import ExplainView, MatchesView, RecipesView
from doppio.indexing import views as indexing
from doppio.library import views as library
from doppio.measuring import index_views as indexes
from doppio.measuring import rerank_views as reranking
from doppio.measuring import views as measuring
from doppio.site.entry import enter, interface, sign_in
from doppio.site.health import health

handler500 = "doppio.site.health.server_error"
handler404 = "doppio.site.errors.not_found"
handler400 = "doppio.site.errors.bad_request"
W = "api/workspaces/<int:workspace>"
urlpatterns = [
    path("sign-in", sign_in),
    path("enter/<str:secret>", enter),
    path("health", health),
    path("api/schema", SpectacularJSONAPIView.as_view()),
    path("api/session", library.SessionView.as_view()),
    path("api/workspaces", library.WorkspacesView.as_view()),
    path(f"{W}/events", library.EventsView.as_view()),
    path(f"{W}/documents", library.DocumentsView.as_view()),
    path(f"{W}/documents/<int:document>", library.DocumentView.as_view()),
    path(f"{W}/documents/<int:document>/outline", library.OutlineView.as_view()),
    path(f"{W}/documents/<int:document>/pages/<int:page>", library.PagePictureView.as_view()),
    path(f"{W}/documents/<int:document>/answers", measuring.DocumentAnswersView.as_view()),
    path(f"{W}/imports", indexing.ImportsView.as_view()),
    path(f"{W}/imports/<int:brought_in>", indexing.ImportView.as_view()),
    path(f"{W}/imports/<int:brought_in>/files", indexing.ImportFilesView.as_view()),
    path(f"{W}/imports/<int:brought_in>/files/<int:file>/fields", indexing.ImportFileFieldsView.as_view()),
    path(f"{W}/imports/<int:brought_in>/start", indexing.ImportStartView.as_view()),
    path(f"{W}/jobs", indexing.JobsView.as_view()),
    path(f"{W}/jobs/<int:job>/cancel", indexing.JobCancelView.as_view()),
    path(f"{W}/recipes", RecipesView.as_view()),
    path(f"{W}/recipes/save", measuring.RecipeSaveView.as_view()),
    path(f"{W}/recipes/<int:recipe>/in-force", measuring.RecipeInForceView.as_view()),
    path(f"{W}/matches", MatchesView.as_view()),
    path(f"{W}/stages/sparse/explained", ExplainView.as_view()),
    path(f"{W}/line", measuring.LineView.as_view()),
    path(f"{W}/questions", measuring.QuestionsView.as_view()),
    path(f"{W}/questions/<int:question>", measuring.QuestionView.as_view()),
    path(f"{W}/ask", measuring.AskView.as_view()),
    path(f"{W}/stages/chunks/cut", measuring.CutView.as_view()),
    path(f"{W}/stages/chunks/figures", measuring.ChunkFiguresView.as_view()),
    path(f"{W}/labels/lost", measuring.LostLabelsView.as_view()),
    path(f"{W}/labels/<int:label>", measuring.LabelView.as_view()),
    path("api/encoders", indexes.EncodersView.as_view()),
    path(f"{W}/stages/indexes", indexes.IndexStageView.as_view()),
    path(f"{W}/stages/dense/survey", indexes.SurveyView.as_view()),
    path(f"{W}/stages/dense/neighbours", indexes.NeighboursView.as_view()),
    path(f"{W}/stages/dense/map", indexes.VectorMapView.as_view()),
    path(f"{W}/stages/dense/pairs", indexes.ClosePairsView.as_view()),
    path(f"{W}/stages/sparse/analysis", indexes.AnalysisView.as_view()),
    path(f"{W}/stages/sparse/synonyms", indexes.SynonymsView.as_view()),
    path(f"{W}/recipes/cost", indexes.CostView.as_view()),
    path("api/kinds", CatalogueView.as_view()),
    path("api/scorers", reranking.ScorersView.as_view()),
    path("api/scorers/try", reranking.TryScorerView.as_view()),
    path("api/scorers/rests-on", reranking.RestsOnView.as_view()),
    path(f"{W}/stages/reranked/floor", reranking.FloorView.as_view()),
    path(f"{W}/stages/reranked/depths", reranking.DepthsView.as_view()),
    path(f"{W}/trials", measuring.TrialsView.as_view()),
    path(f"{W}/mix", measuring.MixView.as_view()),
    re_path(r"^(?!api/|static/|assets/)(?P<path>.*)$", interface),
]
