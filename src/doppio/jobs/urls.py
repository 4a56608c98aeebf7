"""Addresses below a workspace."""

from django.urls import path

from doppio.jobs import views

urlpatterns = [
    path("jobs", views.JobsView.as_view()),
    path("jobs/<int:job>/cancel", views.JobCancelView.as_view()),
]
