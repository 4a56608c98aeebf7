"""People in a workspace: invited by a link, given a role, taken out."""

from dataclasses import dataclass

from django.contrib.auth.models import User
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db import transaction

from doppio.core.errors import DoppioError
from doppio.library.entry import make_entry_link
from doppio.library.models import Membership, Role, Workspace

_LONGEST = 150


class MemberError(DoppioError):
    """Somebody cannot be made a member so, or taken out."""


@dataclass(frozen=True)
class Invited:
    """A member, and the secret of the link that lets in somebody who has not been here before."""

    member: Membership
    secret: str | None


@transaction.atomic
def invite(workspace: Workspace, name: str, role: Role) -> Invited:
    """Make somebody a member; who is not known yet becomes so, with a link that signs in once.

    Raises
    ------
    MemberError
        If the name cannot be one, or is a member's already.
    """
    name = name.strip()
    try:
        UnicodeUsernameValidator()(name)
    except ValidationError:
        raise MemberError("username: only letters, digits and @ . + - _ can stand in it") from None
    if len(name) > _LONGEST:
        raise MemberError(f"username: {len(name)} characters; at most {_LONGEST} are taken")
    user = User.objects.filter(username=name).first()
    # One that came with a workspace from elsewhere has never been here.
    fresh = user is None or not (user.is_active or user.has_usable_password() or user.last_login)
    if user is None:
        user = User(username=name)
        user.set_unusable_password()
    if fresh:
        user.is_active = True
        user.save()
    if workspace.memberships.filter(user=user).exists():
        raise MemberError(f"username: {name} is a member already")
    member = workspace.memberships.create(user=user, role=role)
    # Who has a password or came in before needs no link; another's link would let one in under that name.
    return Invited(member, make_entry_link(user) if fresh else None)


@transaction.atomic
def change_role(member: Membership, role: Role) -> None:
    """Give a member another role.

    Raises
    ------
    MemberError
        If no owner would be left.
    """
    _keep_an_owner(member, role)
    member.role = role
    member.save(update_fields=["role"])


@transaction.atomic
def take_out(member: Membership) -> None:
    """Take a member out; see `change_role`."""
    _keep_an_owner(member, None)
    member.delete()


def _keep_an_owner(member: Membership, role: Role | None) -> None:
    Workspace.objects.select_for_update().get(pk=member.workspace_id)
    others = member.workspace.memberships.filter(role=Role.OWNER).exclude(pk=member.pk)
    if member.role == Role.OWNER and role != Role.OWNER and not others.exists():
        raise MemberError("role: a workspace has one owner at least; make somebody else one first")
