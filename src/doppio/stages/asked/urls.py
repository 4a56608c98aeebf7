"""Addresses below a workspace."""

from django.urls import path

from doppio.stages.asked import by_picture, views, why_not

urlpatterns = [
    path("questions", views.QuestionsView.as_view()),
    path("questions/<int:question>", views.QuestionView.as_view()),
    path("why-not", why_not.WhyNotView.as_view()),
    path("ask", views.AskView.as_view()),
    path("asked-pictures", by_picture.AskedPicturesView.as_view()),
    path("asked-pictures/<str:picture>", by_picture.AskedPictureView.as_view()),
]
