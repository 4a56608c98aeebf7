"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.line import views

urlpatterns = [
    path("line", views.LineView.as_view()),
]
