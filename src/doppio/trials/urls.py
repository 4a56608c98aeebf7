"""Addresses below a workspace."""

from django.urls import path

from doppio.trials import views

urlpatterns = [
    path("trials", views.TrialsView.as_view()),
]
