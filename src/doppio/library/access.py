"""Who may see what: a workspace and all below it is for its members."""

from django.shortcuts import get_object_or_404
from rest_framework.request import Request

from doppio.library.models import Workspace


def workspace_for(request: Request, number: int) -> Workspace:
    """The workspace, if the person is a member; else not found."""
    return get_object_or_404(request.user.workspaces, pk=number)
