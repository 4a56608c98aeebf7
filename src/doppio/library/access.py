"""Who may see and do what: a workspace and all below it is for its members, each by the role."""

from typing import Any

from django.contrib.auth.models import User
from django.http import Http404
from rest_framework.exceptions import PermissionDenied
from rest_framework.permissions import SAFE_METHODS, BasePermission
from rest_framework.request import Request

from doppio.library.models import Membership, Role, Workspace

MAY = {
    Role.JUDGE: "label and judge",
    Role.EDITOR: "change documents, questions and recipes",
    Role.OWNER: "change the workspace and its members",
}


class ByRole(BasePermission):
    """Whatever is below a workspace is for its members, each by the role; looked at before anything that was sent.

    Reading takes a reader and all else an editor. A view says otherwise by `least`, a mapping from methods to roles;
    one that is about workspaces that were removed says so by `of_removed`.
    """

    def has_permission(self, request: Request, view: Any) -> bool:
        number = view.kwargs.get("workspace")
        if number is None:
            return True
        found = (
            Membership.objects.select_related("workspace")
            .filter(user=person(request), workspace=number)
            .filter(workspace__removed_at__isnull=not getattr(view, "of_removed", False))
            .first()
        )
        if found is None:
            raise Http404
        usual = Role.READER if request.method in SAFE_METHODS else Role.EDITOR
        check_role(found, getattr(view, "least", {}).get(request.method, usual))
        request.membership = found  # type: ignore[attr-defined]
        return True


def check_role(member: Membership, least: Role) -> None:
    """Whether a role is enough.

    Raises
    ------
    PermissionDenied
        If it is not; says which one is.
    """
    if member.role < least:
        raise PermissionDenied(
            f"You are {_with_article(Role(member.role).label)} of this workspace; to {MAY[least]} takes "
            f"{_with_article(least.label)}. Ask one of its owners."
        )


def membership_of(request: Request) -> Membership:
    """The person's membership in the workspace that a request is about; `ByRole` looked it up."""
    found = request.membership  # type: ignore[attr-defined]
    assert isinstance(found, Membership)
    return found


def workspace_of(request: Request) -> Workspace:
    """The workspace that a request is about."""
    return membership_of(request).workspace


def person(request: Request) -> User:
    """Who sent a request that got past the gate."""
    assert isinstance(request.user, User)
    return request.user


def _with_article(role: str) -> str:
    return f"an {role}" if role[0] in "aeio" else f"a {role}"
