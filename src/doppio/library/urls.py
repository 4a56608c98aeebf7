"""Addresses below a workspace."""

from django.urls import path

from doppio.library import views

urlpatterns = [
    path("events", views.EventsView.as_view()),
    path("documents", views.DocumentsView.as_view()),
    path("documents/<int:document>", views.DocumentView.as_view()),
    path("documents/<int:document>/outline", views.OutlineView.as_view()),
    path("documents/<int:document>/pages/<int:page>", views.PagePictureView.as_view()),
]
