"""What is served: published recipes, who may ask them, what was asked, as records."""

from django.conf import settings
from django.db import models

from doppio.library.models import Workspace
from doppio.recipes.models import RecipeVersion


class Published(models.Model):
    """A recipe version under a name that assistants ask.

    recipe : the version that answers
    second : a version beside it, and how it is used: for the difference alone, or for the keys of a share
    share : of the questions that the second is asked too, or of the keys that it answers, 0 to 1
    keep_days : for how long the words of questions are kept; 0 where they are not
    redact : rules for what is taken out of questions before they are kept, one a line
    """

    APART, SHADOW, SPLIT = "", "shadow", "split"
    USES = ((APART, "not used"), (SHADOW, "asked beside"), (SPLIT, "answers a share of the keys"))

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="published")
    name = models.CharField(max_length=60, unique=True)
    recipe = models.ForeignKey(RecipeVersion, models.RESTRICT, related_name="+")
    second = models.ForeignKey(RecipeVersion, models.RESTRICT, null=True, related_name="+")
    use = models.CharField(max_length=10, choices=USES, default=APART, blank=True)
    share = models.FloatField(default=0.0)
    keep_days = models.PositiveIntegerField(default=0)
    redact = models.JSONField(default=list)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]


class Release(models.Model):
    """A version that was put behind a name; the latest is the one that answers."""

    published = models.ForeignKey(Published, models.CASCADE, related_name="releases")
    recipe = models.ForeignKey(RecipeVersion, models.RESTRICT, related_name="+")
    back = models.BooleanField(default=False)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class Opened(models.Model):
    """Which version a server process answers with just now; rows that are not renewed are of processes that ended."""

    published = models.ForeignKey(Published, models.CASCADE, related_name="opened")
    process = models.CharField(max_length=40)
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="+")
    seen_at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint("published", "process", name="opened_once")]


class Key(models.Model):
    """A key of an assistant; only the digest of its secret is kept.

    begins : the first signs of the secret, by which people tell keys apart
    scopes : what it may do
    a_minute, a_day : how many questions at most; None without a limit
    draw : a number from 0 to 1 that decides whether the second version answers it
    """

    SEARCH, ANSWER, READ, WATCH = "search", "answer", "read", "watch"
    SCOPES = (SEARCH, ANSWER, READ, WATCH)

    published = models.ForeignKey(Published, models.CASCADE, related_name="keys")
    name = models.CharField(max_length=80)
    digest = models.CharField(max_length=64, unique=True)
    begins = models.CharField(max_length=12)
    scopes = models.JSONField()
    a_minute = models.PositiveIntegerField(null=True)
    a_day = models.PositiveIntegerField(null=True)
    draw = models.FloatField()
    expires_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class Use(models.Model):
    """How often a key asked in a minute; whole days are added up and kept."""

    key = models.ForeignKey(Key, models.CASCADE, related_name="uses")
    day = models.DateField()
    minute = models.PositiveIntegerField()
    asked = models.PositiveIntegerField(default=0)
    refused = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint("key", "day", "minute", name="use_once")]


class Served(models.Model):
    """A question that was answered.

    request : its id, which the answer carried
    key : who asked; None for a person on the page of the application
    question : its words, redacted; empty where they are not kept
    seconds : by stage, and "all"
    pieces : how many were handed on
    best : the highest score of what was handed on; None where nothing was
    answered : how likely it has an answer at all, where a scorer says so
    failed : why it could not be answered; empty where it was
    beside : what the second version made of it; empty where it was not asked
    thumb : 1 up, -1 down, 0 where nothing was said
    wrong : what somebody found wrong
    """

    published = models.ForeignKey(Published, models.CASCADE, related_name="served")
    request = models.CharField(max_length=32, unique=True)
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="+")
    key = models.ForeignKey(Key, models.SET_NULL, null=True, related_name="served")
    kind = models.CharField(max_length=10)
    question = models.TextField(blank=True)
    seconds = models.JSONField(default=dict)
    pieces = models.PositiveIntegerField(default=0)
    best = models.FloatField(null=True)
    answered = models.FloatField(null=True)
    failed = models.CharField(max_length=300, blank=True)
    beside = models.JSONField(default=dict)
    thumb = models.SmallIntegerField(default=0)
    wrong = models.TextField(blank=True)
    taken = models.BooleanField(default=False)
    at = models.DateTimeField()

    class Meta:
        ordering = ["-at", "-pk"]
        indexes = [models.Index(fields=["published", "at"], name="served_by_time")]
