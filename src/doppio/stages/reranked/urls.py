"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.reranked import views

urlpatterns = [
    path("stages/reranked/floor", views.FloorView.as_view()),
    path("stages/reranked/depths", views.DepthsView.as_view()),
    path("stages/reranked/fit", views.FitView.as_view()),
    path("stages/reranked/matches", views.MatchesView.as_view()),
]
