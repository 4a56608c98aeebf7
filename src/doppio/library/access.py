"""Who may see what: a workspace and all below it is for its members."""

from django.contrib.auth.models import User
from django.shortcuts import get_object_or_404
from rest_framework.request import Request

from doppio.library.models import Workspace


def workspace_for(request: Request, number: int) -> Workspace:
    """The workspace, if the person is a member; else not found."""
    return get_object_or_404(person(request).workspaces, pk=number)


def person(request: Request) -> User:
    """Who sent a request that got past the gate."""
    assert isinstance(request.user, User)
    return request.user
