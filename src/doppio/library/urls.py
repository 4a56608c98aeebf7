"""Addresses below a workspace."""

from django.urls import path

from doppio.library import carrying_views, history_views, views, workspace_views

urlpatterns = [
    path("", workspace_views.WorkspaceView.as_view()),
    path("bring-back", workspace_views.BringBackView.as_view()),
    path("members", workspace_views.MembersView.as_view()),
    path("members/<int:member>", workspace_views.MemberView.as_view()),
    path("export", carrying_views.ExportView.as_view()),
    path("copy", carrying_views.CopyView.as_view()),
    path("emptied", carrying_views.EmptyView.as_view()),
    path("events", history_views.EventsView.as_view()),
    path("events/<int:event>/taken-back", history_views.TakeBackView.as_view()),
    path("documents", views.DocumentsView.as_view()),
    path("documents/<int:document>", views.DocumentView.as_view()),
    path("documents/<int:document>/outline", views.OutlineView.as_view()),
    path("documents/<int:document>/pages/<int:page>", views.PagePictureView.as_view()),
    path("documents/<int:document>/pages/<int:page>/lines", views.PageLinesView.as_view()),
    path("documents/<int:document>/figures/<int:number>", views.FigureView.as_view()),
]
