"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.chunks import views

urlpatterns = [
    path("stages/chunks/cut", views.CutView.as_view()),
    path("stages/chunks/figures", views.ChunkFiguresView.as_view()),
]
