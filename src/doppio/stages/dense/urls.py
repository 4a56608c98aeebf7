"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.dense import views

urlpatterns = [
    path("stages/dense/index", views.DenseStageView.as_view()),
    path("stages/dense/survey", views.SurveyView.as_view()),
    path("stages/dense/neighbours", views.NeighboursView.as_view()),
    path("stages/dense/map", views.VectorMapView.as_view()),
    path("stages/dense/shaded", views.ShadedView.as_view()),
    path("stages/dense/pairs", views.ClosePairsView.as_view()),
]
