"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.asked import views, why_not

urlpatterns = [
    path("questions", views.QuestionsView.as_view()),
    path("questions/<int:question>", views.QuestionView.as_view()),
    path("why-not", why_not.WhyNotView.as_view()),
    path("ask", views.AskView.as_view()),
]
