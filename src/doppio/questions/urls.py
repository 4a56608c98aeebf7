"""Addresses below a workspace."""

from django.urls import path

from doppio.questions import file_views, suggested_views, views

urlpatterns = [
    path("question-sets", views.SetsView.as_view()),
    path("question-sets/import", file_views.QuestionFileView.as_view()),
    path("question-sets/<int:number>", views.SetView.as_view()),
    path("question-sets/<int:number>/export", file_views.QuestionsOutView.as_view()),
    path("questions/<int:question>/labels", views.LabelsView.as_view()),
    path("suggestions", suggested_views.SuggestionsView.as_view()),
    path("question-coverage", suggested_views.CoverageView.as_view()),
    path("labels/lost", views.LostLabelsView.as_view()),
    path("labels/<int:label>", views.LabelView.as_view()),
]
