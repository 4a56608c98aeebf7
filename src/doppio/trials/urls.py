"""Addresses below a workspace."""

from django.urls import path

from doppio.trials import comparing_views, pool_views, views

urlpatterns = [
    path("trials", views.TrialsView.as_view()),
    path("comparison", comparing_views.ComparisonView.as_view()),
    path("comparison/questions", comparing_views.PairsView.as_view()),
    path("pools", pool_views.PoolsView.as_view()),
    path("pools/<int:pool>", pool_views.PoolView.as_view()),
    path("pools/<int:pool>/agreement", pool_views.AgreementView.as_view()),
    path("pools/<int:pool>/items/<int:item>", pool_views.PoolItemView.as_view()),
    path("pools/<int:pool>/items/<int:item>/settled", pool_views.SettledView.as_view()),
]
