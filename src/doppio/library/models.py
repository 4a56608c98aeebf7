"""Workspaces, documents and chunks as records."""

from django.conf import settings
from django.db import models


class Workspace(models.Model):
    """A corpus with its chunkings, indexes, questions, recipes and trials.

    `marked` counts the changes of its questions and labels: what was measured with another count is no longer true.
    One that was removed is kept for a time, for nobody to see but its owners.
    """

    name = models.CharField(max_length=120)
    members = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="workspaces", through="Membership")
    marked = models.PositiveBigIntegerField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)
    removed_at = models.DateTimeField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["name"], condition=models.Q(removed_at=None), name="workspace_name_once")
        ]


class Role(models.IntegerChoices):
    """What a member may do; each may do what those before may."""

    READER = 10, "reader"
    JUDGE = 20, "judge"
    EDITOR = 30, "editor"
    OWNER = 40, "owner"


class Membership(models.Model):
    """A person in a workspace."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="memberships")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="memberships")
    role = models.PositiveSmallIntegerField(choices=Role.choices, default=Role.OWNER)

    class Meta:
        # The table stood before people had roles.
        db_table = "library_workspace_members"
        constraints = [models.UniqueConstraint("workspace", "user", name="member_once")]


class SourceFile(models.Model):
    """A file that was imported; its bytes are kept by their digest. `edition` is that of the readers that read it."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="files")
    name = models.CharField(max_length=500)
    digest = models.CharField(max_length=40)
    bytes = models.PositiveBigIntegerField()
    fields = models.JSONField(null=True)
    edition = models.PositiveSmallIntegerField(default=0)
    imported_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "name", name="file_name_once")]


class Document(models.Model):
    """A document's canonical text and structure; offsets count Unicode code points.

    `found` are the blocks as they were read; `blocks` and the sections are what a person's corrections make of
    them. `content` is the digest of what was read, `digest` that of all that chunks depend on. `given` says how
    offsets on the text as it was given move to `text`. `pictures` says where those of its file stand; they are drawn
    from the file when they are looked at.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="documents")
    file = models.ForeignKey(SourceFile, models.SET_NULL, null=True, related_name="documents")
    name = models.CharField(max_length=500)
    title = models.CharField(max_length=500)
    text = models.TextField()
    text_digest = models.CharField(max_length=32, default="", db_index=True)
    digest = models.CharField(max_length=32)
    content = models.CharField(max_length=20, default="")
    version = models.PositiveIntegerField(default=1)
    words = models.PositiveIntegerField()
    pages = models.PositiveIntegerField(default=0)
    blocks = models.JSONField(default=list)
    found = models.JSONField(default=list)
    corrections = models.JSONField(default=list)
    metadata = models.JSONField(default=dict)
    carried = models.JSONField(default=dict)
    given = models.JSONField(default=list)
    pictures = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint("workspace", "name", name="document_name_once")]


class CorpusChange(models.Model):
    """That a workspace's documents have changed: the database writes it with every statement that changes some.

    A stamp is never given twice, not even by what is rolled back, so the stamps of a workspace name the state of its
    documents. Each of a few slots belongs to some of the connections, so that two that write at once seldom wait.
    """

    workspace_id = models.BigIntegerField()
    slot = models.SmallIntegerField()
    stamp = models.BigIntegerField()

    class Meta:
        constraints = [models.UniqueConstraint("workspace_id", "slot", name="corpus_change_slot_once")]


class DocumentVersion(models.Model):
    """What became of a document when its file changed: labels that moved and those that found no place."""

    document = models.ForeignKey(Document, models.CASCADE, related_name="versions")
    version = models.PositiveIntegerField()
    words = models.PositiveIntegerField()
    file_digest = models.CharField(max_length=40, blank=True)
    labels_moved = models.PositiveIntegerField(default=0)
    labels_lost = models.PositiveIntegerField(default=0)
    corrections_lost = models.JSONField(default=list)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["document", "-version"]
        constraints = [models.UniqueConstraint("document", "version", name="document_version_once")]


class Section(models.Model):
    """A section of a document: a heading and all below it."""

    document = models.ForeignKey(Document, models.CASCADE, related_name="sections")
    index = models.PositiveIntegerField()
    number = models.CharField(max_length=40, blank=True)
    title = models.TextField()
    level = models.PositiveSmallIntegerField()
    start = models.PositiveIntegerField()
    end = models.PositiveIntegerField()
    parent = models.IntegerField(default=-1)
    page = models.PositiveIntegerField(default=0)
    dropped = models.BooleanField(default=False)

    class Meta:
        ordering = ["document", "index"]
        constraints = [models.UniqueConstraint("document", "index", name="section_index_once")]


class Event(models.Model):
    """Something that somebody did and that others may ask about later; never changed."""

    at = models.DateTimeField(auto_now_add=True)
    kind = models.CharField(max_length=40)
    # The name as it was typed or as it was then: people may be renamed, and a wrong name belongs to nobody.
    name = models.CharField(max_length=150, blank=True)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    address = models.GenericIPAddressField(null=True)
    workspace = models.ForeignKey(Workspace, models.CASCADE, null=True, related_name="events")
    about = models.JSONField(default=dict)

    class Meta:
        ordering = ["-pk"]
        indexes = [
            models.Index(fields=["kind", "name", "at"], name="event_by_name"),
            models.Index(fields=["kind", "address", "at"], name="event_by_address"),
        ]


class EntryLink(models.Model):
    """A link that signs a person in once; only the digest of its secret is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
