"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.fused import views

urlpatterns = [
    path("stages/fused/mix", views.MixView.as_view()),
    path("stages/fused/fit", views.FusionFitView.as_view()),
]
