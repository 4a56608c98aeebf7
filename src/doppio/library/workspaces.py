"""Workspaces made, renamed, removed and, for a time, brought back."""

from datetime import datetime, timedelta

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import F, Sum
from django.utils import timezone

from doppio.core.errors import DoppioError
from doppio.library.models import Role, Workspace
from doppio.library.services import remove_documents
from doppio.library.signals import emptied, held, made

LONGEST_NAME = 120


class WorkspaceError(DoppioError):
    """A workspace cannot be called or made so."""


@transaction.atomic
def make_workspace(name: str, owner: User) -> Workspace:
    """An empty workspace with one owner.

    Raises
    ------
    WorkspaceError
        If the name is empty, too long, or another workspace's.
    """
    workspace = Workspace.objects.create(name=_free_name(name))
    workspace.memberships.create(user=owner, role=Role.OWNER)
    made.send(Workspace, workspace=workspace, user=owner)
    return workspace


@transaction.atomic
def rename(workspace: Workspace, name: str) -> None:
    """Call a workspace otherwise; see `make_workspace`."""
    workspace.name = _free_name(name, workspace)
    workspace.save(update_fields=["name"])


@transaction.atomic
def remove(workspace: Workspace) -> None:
    """Take a workspace out of sight; its owners can bring it back until it is thrown away."""
    workspace.removed_at = timezone.now()
    workspace.save(update_fields=["removed_at"])


@transaction.atomic
def bring_back(workspace: Workspace) -> None:
    """Undo a removal; where the name has been taken since, it gets a number."""
    if Workspace.objects.filter(name=workspace.name, removed_at=None).exists():
        workspace.name = free_name_like(workspace.name)
    workspace.removed_at = None
    workspace.save(update_fields=["name", "removed_at"])


@transaction.atomic
def empty(workspace: Workspace) -> Workspace:
    """Begin anew under the same name with the same members and recipes; what was is removed, and kept for a time."""
    name = workspace.name
    workspace.name = free_name_like(f"{name[: LONGEST_NAME - 30]}, before it was emptied")
    workspace.removed_at = timezone.now()
    workspace.save(update_fields=["name", "removed_at"])
    made = Workspace.objects.create(name=name)
    for member in workspace.memberships.all():
        made.memberships.create(user=member.user, role=member.role)
    emptied.send(Workspace, before=workspace, after=made)
    return made


def check_free(name: str) -> None:
    """Whether a new workspace can have this name; see `make_workspace`."""
    _free_name(name)


def throw_away(sender: object, now: datetime, **_: object) -> None:
    """Throw away workspaces that were removed longer ago than the settings keep them."""
    old = now - timedelta(days=settings.DOPPIO_KEEP_REMOVED_DAYS)
    for workspace in Workspace.objects.filter(removed_at__lt=old):
        with transaction.atomic():
            remove_documents(workspace, list(workspace.documents.values_list("pk", flat=True)))
            workspace.delete()


def holdings(workspace: Workspace) -> dict[str, int]:
    """What a workspace holds: names of things and how many there are."""
    words = workspace.documents.aggregate(words=Sum("words", default=0))["words"]
    found = {"documents": workspace.documents.count(), "words": words, "members": workspace.memberships.count()}
    for _, counts in held.send(Workspace, workspace=workspace):
        assert isinstance(counts, dict)
        found.update(counts)
    return found


def marked(workspace: Workspace) -> None:
    """Questions or labels have changed: what was measured with those of before is no longer true."""
    Workspace.objects.filter(pk=workspace.pk).update(marked=F("marked") + 1)
    workspace.refresh_from_db(fields=["marked"])


def free_name_like(name: str) -> str:
    """A name that no workspace has: this one, or with a number behind it."""
    name = " ".join(name.split())[: LONGEST_NAME - 6] or "Workspace"
    found, number = name, 2
    while Workspace.objects.filter(name=found, removed_at=None).exists():
        found, number = f"{name} ({number})", number + 1
    return found


def _free_name(name: str, own: Workspace | None = None) -> str:
    name = " ".join(name.split())
    if not name:
        raise WorkspaceError("name: empty; a workspace needs a name")
    if len(name) > LONGEST_NAME:
        raise WorkspaceError(f"name: {len(name)} characters; at most {LONGEST_NAME} are taken")
    others = Workspace.objects.filter(name=name, removed_at=None)
    if (others.exclude(pk=own.pk) if own else others).exists():
        raise WorkspaceError(f"name: {name!r} is another workspace's; take another one")
    return name
