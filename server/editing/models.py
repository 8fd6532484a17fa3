"""Clips as documents: blobs, states, revisions, memoised lines."""

import hashlib
import zlib
from collections.abc import Sequence
from typing import Any

import orjson
from cachetools import LRUCache
from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.db import models
from django.utils.functional import cached_property
from library.models import Take, Workspace


class Blob(models.Model):
    """Bytes named by the SHA-256 of their content: a channel's columns, a clip's header, or a
    recipe's line, compressed."""

    sha = models.CharField(primary_key=True, max_length=64)
    data = models.BinaryField()


class State(models.Model):
    """One immutable state of a document: its header and a blob a channel, in layout order.

    ``manifest`` is the channels' digests, 32 bytes each, one after another.
    """

    hash = models.CharField(primary_key=True, max_length=64)
    header = models.ForeignKey(Blob, on_delete=models.PROTECT, related_name="+")
    manifest = models.BinaryField()
    keys = models.PositiveBigIntegerField()


class Memo(models.Model):
    """What a recipe's line made of a state: nothing is computed twice."""

    key = models.CharField(primary_key=True, max_length=64)
    state = models.ForeignKey(State, on_delete=models.CASCADE)
    report = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)


class Inspection(models.Model):
    """What is found in a state: measured once, since a state never changes.

    ``findings`` are as :func:`leancurve.measures.findings.find` gives them, ``work`` what they
    amount to.
    """

    state = models.OneToOneField(State, on_delete=models.CASCADE, primary_key=True)
    version = models.PositiveIntegerField()
    findings = models.JSONField(default=list)
    work = models.FloatField(default=0.0)


class ClipQuerySet(models.QuerySet["Clip"]):
    def seen_by(self, user: AbstractBaseUser) -> "ClipQuerySet":
        return self.filter(workspace__members=user)


class Clip(models.Model):
    """A take being worked on. ``head`` is what is shown; ``tip`` the end of its branch (redo)."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="clips")
    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="clips")
    name = models.CharField(max_length=255)
    head = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    tip = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    opened = models.DateTimeField(auto_now=True)
    camera = models.JSONField(null=True)
    """A placed camera to look through: position and target in metres, field of view in degrees."""

    objects = ClipQuerySet.as_manager()

    def __str__(self) -> str:
        return self.name


class Revision(models.Model):
    """A step of a clip's history: the recipe that made it and the state it made.

    ``take`` is what lies beneath it: undoing a swap brings the other take back. ``lines`` are the
    digests of its recipe's lines: revisions of one clip have most of them in common.
    """

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="revisions")
    take = models.ForeignKey(Take, null=True, on_delete=models.CASCADE, related_name="+")
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="+")
    number = models.PositiveIntegerField()
    lines = models.JSONField(default=list)
    state = models.ForeignKey(State, on_delete=models.PROTECT)
    cause = models.CharField(max_length=200)
    report = models.JSONField(default=dict)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    request_id = models.UUIDField(null=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["clip", "number"], name="revision_number_once"),
            models.UniqueConstraint(fields=["clip", "request_id"], name="write_applied_once"),
        ]

    @cached_property
    def recipe(self) -> list[dict[str, Any]]:
        """The lines of operations that made the state, the first of them how the take is read."""
        found = {sha: _lines[sha] for sha in self.lines if sha in _lines}
        missing = set(self.lines) - set(found)
        for sha, data in Blob.objects.filter(pk__in=missing).values_list("sha", "data"):
            found[sha] = _lines[sha] = bytes(data)
        return [orjson.loads(zlib.decompress(found[sha])) for sha in self.lines]


_lines: LRUCache[str, bytes] = LRUCache(2**24, getsizeof=len)


def keep_lines(recipe: Sequence[dict[str, Any]]) -> list[str]:
    """Keep a recipe's lines, each once; their digests are a revision's ``lines``."""
    packed = [zlib.compress(orjson.dumps(line, option=orjson.OPT_SORT_KEYS)) for line in recipe]
    digests = [hashlib.sha256(data).hexdigest() for data in packed]
    fresh = {sha: data for sha, data in zip(digests, packed, strict=True) if sha not in _lines}
    Blob.objects.bulk_create(
        [Blob(sha=sha, data=data) for sha, data in fresh.items()], ignore_conflicts=True
    )
    return digests


class Recipe(models.Model):
    """Lines of operations kept by name, to be applied to other takes."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="recipes")
    name = models.CharField(max_length=120)
    lines = models.JSONField(default=list)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["workspace", "name"], name="recipe_name_once")
        ]

    def __str__(self) -> str:
        return self.name


class Batch(models.Model):
    """A recipe on many takes: one job each, their results one table."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="batches")
    name = models.CharField(max_length=120)
    lines = models.JSONField(default=list)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.name
