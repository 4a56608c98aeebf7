"""Addresses below a workspace."""

from django.urls import path

from doppio.serving import views

urlpatterns = [
    path("published", views.PublishedListView.as_view()),
    path("published/<int:published>", views.PublishedView.as_view()),
    path("published/<int:published>/release", views.ReleaseView.as_view()),
    path("published/<int:published>/beside", views.BesideView.as_view()),
    path("published/<int:published>/keys", views.KeysView.as_view()),
    path("published/<int:published>/keys/<int:key>", views.KeyView.as_view()),
    path("published/<int:published>/figures", views.FiguresView.as_view()),
    path("published/<int:published>/questions", views.ToLabelView.as_view()),
    path("published/<int:published>/strangers", views.StrangersView.as_view()),
    path("published/<int:published>/ask", views.TryView.as_view()),
    path("published/<int:published>/say", views.SayView.as_view()),
]
