"""Addresses below a workspace."""

from django.urls import path

from doppio.recipes import views

urlpatterns = [
    path("recipes", views.RecipesView.as_view()),
    path("recipes/save", views.RecipeSaveView.as_view()),
    path("recipes/cost", views.CostView.as_view()),
    path("recipes/<int:recipe>/in-force", views.RecipeInForceView.as_view()),
]
