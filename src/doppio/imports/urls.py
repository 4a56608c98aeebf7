"""Addresses below a workspace."""

from django.urls import path

from doppio.imports import views

urlpatterns = [
    path("imports", views.ImportsView.as_view()),
    path("imports/<int:brought_in>", views.ImportView.as_view()),
    path("imports/<int:brought_in>/files", views.ImportFilesView.as_view()),
    path("imports/<int:brought_in>/files/<int:file>/fields", views.ImportFileFieldsView.as_view()),
    path("imports/<int:brought_in>/start", views.ImportStartView.as_view()),
]
