"""Addresses below a workspace."""

from django.urls import path

from doppio.questions import views

urlpatterns = [
    path("labels/lost", views.LostLabelsView.as_view()),
    path("labels/<int:label>", views.LabelView.as_view()),
]
