"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.draft import views

urlpatterns = [
    path("drafts", views.DraftView.as_view()),
    path("drafts/ask", views.DraftQuestionView.as_view()),
]
