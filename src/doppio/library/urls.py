"""Addresses below a workspace."""

from django.urls import path

from doppio.library import views, workspace_views

urlpatterns = [
    path("", workspace_views.WorkspaceView.as_view()),
    path("bring-back", workspace_views.BringBackView.as_view()),
    path("members", workspace_views.MembersView.as_view()),
    path("members/<int:member>", workspace_views.MemberView.as_view()),
    path("events", views.EventsView.as_view()),
    path("documents", views.DocumentsView.as_view()),
    path("documents/<int:document>", views.DocumentView.as_view()),
    path("documents/<int:document>/outline", views.OutlineView.as_view()),
    path("documents/<int:document>/pages/<int:page>", views.PagePictureView.as_view()),
]
