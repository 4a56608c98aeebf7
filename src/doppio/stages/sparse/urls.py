"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.sparse import views

urlpatterns = [
    path("stages/sparse/index", views.SparseStageView.as_view()),
    path("stages/sparse/explained", views.ExplainView.as_view()),
    path("stages/sparse/added/<int:chunk>", views.AddedView.as_view()),
    path("stages/sparse/analysis", views.AnalysisView.as_view()),
    path("stages/sparse/synonyms", views.SynonymsView.as_view()),
]
