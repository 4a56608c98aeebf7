"""Addresses that assistants ask, below `/serve/`."""

from django.urls import path

from doppio.serving import served_views as views

urlpatterns = [
    path("search", views.SearchView.as_view()),
    path("answer", views.AnswerView.as_view()),
    path("feedback", views.FeedbackView.as_view()),
    path("health", views.HealthView.as_view()),
    path("documents", views.DocumentsView.as_view()),
    path("documents/<int:document>", views.DocumentView.as_view()),
    path("documents/<int:document>/figures/<int:number>", views.FigureView.as_view()),
    path("metrics", views.MetricsView.as_view()),
    path("mcp", views.ProtocolView.as_view()),
]
