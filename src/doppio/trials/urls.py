"""Addresses below a workspace."""

from django.urls import path

from doppio.trials import comparing_views, gate_views, outside_views, pool_views, report_views, sweep_views, views

urlpatterns = [
    path("trials", views.TrialsView.as_view()),
    path("questions/<int:question>/trials", views.PastTrialsView.as_view()),
    path("trials/<int:trial>/report", report_views.ReportView.as_view()),
    path("comparison", comparing_views.ComparisonView.as_view()),
    path("comparison/questions", comparing_views.PairsView.as_view()),
    path("runs", outside_views.RunsView.as_view()),
    path("runs/<int:run>", outside_views.RunView.as_view()),
    path("gates", gate_views.GatesView.as_view()),
    path("gates/<int:gate>", gate_views.GateView.as_view()),
    path("gates/<int:gate>/look", gate_views.LookView.as_view()),
    path("gates/<int:gate>/baseline", gate_views.BaselineView.as_view()),
    path("sweeps", sweep_views.SweepsView.as_view()),
    path("sweeps/axes", sweep_views.AxesView.as_view()),
    path("sweeps/outlook", sweep_views.OutlookView.as_view()),
    path("sweeps/<int:sweep>", sweep_views.SweepView.as_view()),
    path("sweeps/<int:sweep>/go-on", sweep_views.GoOnView.as_view()),
    path("sweeps/<int:sweep>/recipe", sweep_views.SweepBodyView.as_view()),
    path("pools", pool_views.PoolsView.as_view()),
    path("pools/<int:pool>", pool_views.PoolView.as_view()),
    path("pools/<int:pool>/agreement", pool_views.AgreementView.as_view()),
    path("pools/<int:pool>/items/<int:item>", pool_views.PoolItemView.as_view()),
    path("pools/<int:pool>/items/<int:item>/settled", pool_views.SettledView.as_view()),
]
