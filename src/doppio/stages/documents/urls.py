"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.documents import views

urlpatterns = [
    path("documents/<int:document>/answers", views.DocumentAnswersView.as_view()),
]
