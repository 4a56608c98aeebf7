"""Workspaces and their members."""

from typing import Any

from django.contrib.auth import password_validation, update_session_auth_hash
from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Count, Sum
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import check_role, membership_of, person, workspace_of
from doppio.library.events import (
    MEMBER_CHANGED,
    MEMBER_INVITED,
    MEMBER_TAKEN_OUT,
    PASSWORD_SET,
    WORKSPACE_BROUGHT_BACK,
    WORKSPACE_MADE,
    WORKSPACE_REMOVED,
    WORKSPACE_RENAMED,
    note,
)
from doppio.library.members import MemberError, change_role, invite, take_out
from doppio.library.models import Membership, Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.library.workspace_serializers import (
    InvitedSerializer,
    InviteSerializer,
    MemberSerializer,
    NamedSerializer,
    PasswordSerializer,
    RoleSerializer,
    WorkspaceHeldSerializer,
    WorkspaceSerializer,
)
from doppio.library.workspaces import bring_back, holdings, make_workspace, remove, rename


class WorkspacesView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("removed", bool, description="Those that were removed and can be brought back.")
        ],
        responses=WorkspaceSerializer(many=True),
        operation_id="workspaces",
    )
    def get(self, request: Request) -> Response:
        """The workspaces that the person is a member of, in the order in which they were made."""
        removed = request.query_params.get("removed", "").lower() in ("true", "1")
        mine = Membership.objects.filter(user=person(request), workspace__removed_at__isnull=not removed)
        if removed:
            mine = mine.filter(role=Role.OWNER)
        return Response([_row(one) for one in _counted(mine)])

    @extend_schema(
        request=NamedSerializer, responses={201: WorkspaceSerializer, 400: PROBLEM}, operation_id="makeWorkspace"
    )
    def post(self, request: Request) -> Response:
        """An empty workspace, owned by the person."""
        given = NamedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            made = make_workspace(given.validated_data["name"], person(request))
            note(WORKSPACE_MADE, request, workspace=made, workspace_name=made.name)
        return Response(row_of(made, person(request)), status=201)


class WorkspaceView(APIView):
    least = {"PATCH": Role.OWNER, "DELETE": Role.OWNER}

    @extend_schema(responses=WorkspaceHeldSerializer, operation_id="workspace")
    def get(self, request: Request, workspace: int) -> Response:
        """A workspace with what it holds."""
        mine = membership_of(request)
        return Response(
            {"id": mine.workspace.pk, "name": mine.workspace.name, "role": Role(mine.role).label,
             "holds": holdings(mine.workspace)}
        )  # fmt: skip

    @extend_schema(request=NamedSerializer, responses={204: None, 400: PROBLEM}, operation_id="renameWorkspace")
    def patch(self, request: Request, workspace: int) -> Response:
        """Call it otherwise."""
        space = workspace_of(request)
        given = NamedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        before = space.name
        with transaction.atomic():
            rename(space, given.validated_data["name"])
            note(WORKSPACE_RENAMED, request, workspace=space, before=before, after=space.name)
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="removeWorkspace")
    def delete(self, request: Request, workspace: int) -> Response:
        """Remove it with all that it holds; its owners can bring it back for a week."""
        space = workspace_of(request)
        with transaction.atomic():
            note(WORKSPACE_REMOVED, request, workspace=space, workspace_name=space.name)
            remove(space)
        return Response(status=204)


class BringBackView(APIView):
    least = {"POST": Role.OWNER}
    of_removed = True

    @extend_schema(request=None, responses=WorkspaceSerializer, operation_id="bringWorkspaceBack")
    def post(self, request: Request, workspace: int) -> Response:
        """Undo a removal."""
        space = workspace_of(request)
        with transaction.atomic():
            bring_back(space)
            note(WORKSPACE_BROUGHT_BACK, request, workspace=space, workspace_name=space.name)
        return Response(row_of(space, person(request)))


class MembersView(APIView):
    least = {"POST": Role.OWNER}

    @extend_schema(responses=MemberSerializer(many=True), operation_id="members")
    def get(self, request: Request, workspace: int) -> Response:
        """Who is in the workspace, and as what."""
        rows = workspace_of(request).memberships.select_related("user")
        rows = rows.order_by("-role", "user__username")
        return Response([_member(row) for row in rows])

    @extend_schema(
        request=InviteSerializer, responses={201: InvitedSerializer, 400: PROBLEM}, operation_id="inviteMember"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Make somebody a member; for somebody new there is a link, shown this once."""
        space = workspace_of(request)
        given = InviteSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        role = _role(given.validated_data["role"])
        with transaction.atomic():
            found = invite(space, given.validated_data["username"], role)
            username = found.member.user.get_username()
            note(MEMBER_INVITED, request, workspace=space, member=username, role=role.label)
        path = f"/enter/{found.secret}" if found.secret else None
        return Response({"member": _member(found.member), "link": path}, status=201)


class MemberView(APIView):
    least = {"PATCH": Role.OWNER, "DELETE": Role.READER}

    @extend_schema(
        request=RoleSerializer, responses={200: MemberSerializer, 400: PROBLEM}, operation_id="changeMember"
    )
    def patch(self, request: Request, workspace: int, member: int) -> Response:
        """Give a member another role."""
        space = workspace_of(request)
        given = RoleSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        found = get_object_or_404(space.memberships.select_related("user", "workspace"), user=member)
        before, role = Role(found.role), _role(given.validated_data["role"])
        with transaction.atomic():
            change_role(found, role)
            note(MEMBER_CHANGED, request, workspace=space, member=found.user.get_username(), before=before.label,
                 after=role.label)  # fmt: skip
        return Response(_member(found))

    @extend_schema(responses={204: None, 400: PROBLEM}, operation_id="takeMemberOut")
    def delete(self, request: Request, workspace: int, member: int) -> Response:
        """Take a member out; everybody may leave."""
        if member != person(request).pk:
            check_role(membership_of(request), Role.OWNER)
        space = workspace_of(request)
        found = get_object_or_404(space.memberships.select_related("user", "workspace"), user=member)
        with transaction.atomic():
            note(MEMBER_TAKEN_OUT, request, workspace=space, member=found.user.get_username())
            take_out(found)
        return Response(status=204)


class PasswordView(APIView):
    @extend_schema(request=PasswordSerializer, responses={204: None, 400: PROBLEM}, operation_id="setPassword")
    def put(self, request: Request) -> Response:
        """Set one's password: who has one already has to give it."""
        given = PasswordSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        user = person(request)
        if user.has_usable_password() and not user.check_password(given.validated_data["present"]):
            raise MemberError("present: this is not the present password")
        try:
            password_validation.validate_password(given.validated_data["password"], user)
        except ValidationError as error:
            raise MemberError(f"password: {' '.join(error.messages)}") from None
        with transaction.atomic():
            user.set_password(given.validated_data["password"])
            user.save(update_fields=["password"])
            note(PASSWORD_SET, request)
        # Whoever else is signed in under this name is no longer.
        update_session_auth_hash(request, user)
        return Response(status=204)


def _counted(mine: Any) -> list[Membership]:
    return list(
        mine.select_related("workspace")
        .annotate(count=Count("workspace__documents"), words=Sum("workspace__documents__words", default=0))
        .order_by("workspace")
    )


def row_of(workspace: Workspace, user: User) -> dict[str, Any]:
    """A workspace as its list shows it to one of its members."""
    return _row(_counted(workspace.memberships.filter(user=user))[0])


def _row(one: Any) -> dict[str, Any]:
    return {
        "id": one.workspace.pk,
        "name": one.workspace.name,
        "role": Role(one.role).label,
        "documents": one.count,
        "words": one.words,
        "removed_at": one.workspace.removed_at,
    }


def _member(row: Membership) -> dict[str, Any]:
    return {"id": row.user_id, "username": row.user.get_username(), "role": Role(row.role).label}


def _role(label: str) -> Role:
    return next(role for role in Role if role.label == label)
