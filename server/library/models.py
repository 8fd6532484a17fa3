"""Workspaces and what they hold: members, takes, uploaded files, long-running jobs."""

import os
from typing import Any

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.db import models
from django.db.models import Q


class Workspace(models.Model):
    """A shoot, a show: everything in it is seen by its members and by nobody else."""

    name = models.CharField(max_length=120)
    members = models.ManyToManyField(
        settings.AUTH_USER_MODEL, through="Membership", related_name="workspaces"
    )
    most_bytes = models.PositiveBigIntegerField(null=True)
    most_takes = models.PositiveIntegerField(null=True)
    """What it may hold; None where it is what every workspace may."""

    def __str__(self) -> str:
        return self.name


class Membership(models.Model):
    """What somebody may do in a workspace: a viewer sees, plays and downloads; an editor works;
    an owner says who else may, and empties the bin."""

    class Role(models.TextChoices):
        OWNER = "owner"
        EDITOR = "editor"
        VIEWER = "viewer"

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships"
    )
    role = models.CharField(max_length=8, choices=Role, default=Role.EDITOR)

    class Meta:
        db_table = "library_workspace_members"  # where it stood without a role
        unique_together = [("workspace", "user")]


class StoredFile(models.Model):
    """An uploaded file, byte for byte; of no workspace where it is a whole workspace itself."""

    workspace = models.ForeignKey(Workspace, null=True, on_delete=models.CASCADE)
    name = models.CharField(max_length=255)
    data = models.BinaryField()
    size = models.PositiveBigIntegerField()
    created = models.DateTimeField(auto_now_add=True)


class Skeleton(models.Model):
    """A skeleton that takes of a workspace are on, named once for all of them.

    ``digest`` names its stored form, which documents refer to as well; ``skin`` names that of the
    body that came with it, of so many ``triangles``, where one did.
    """

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="skeletons")
    name = models.CharField(max_length=120)
    digest = models.CharField(max_length=64)
    joints = models.PositiveIntegerField()
    skin = models.CharField(max_length=64, blank=True, default="")
    triangles = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["workspace", "digest"], name="skeleton_once")
        ]

    def __str__(self) -> str:
        return self.name


class TakeQuerySet(models.QuerySet["Take"]):
    def seen_by(self, user: AbstractBaseUser) -> "TakeQuerySet":
        return self.filter(workspace__members=user, binned=None)


class Take(models.Model):
    """What was captured, as found. Immutable but for its name. ``binned`` is when it was deleted:
    for some days it can be put back. One that is ``hidden`` is out of the bin as well, and stays
    because revisions of clips lie on it."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="takes")
    name = models.CharField(max_length=255)
    file = models.ForeignKey(StoredFile, on_delete=models.PROTECT)
    """What it came in: other takes may have come in it as well."""
    part = models.PositiveSmallIntegerField(default=0)
    """Which of its file's takes it is."""
    choices = models.JSONField(default=dict)
    """How its file was read otherwise than its numbers suggest; see
    :func:`library.parsing.choices_of`."""
    state = models.ForeignKey("documents.State", on_delete=models.PROTECT)
    skeleton = models.ForeignKey(Skeleton, on_delete=models.PROTECT, related_name="takes")
    rate_numerator = models.PositiveIntegerField()
    rate_denominator = models.PositiveIntegerField()
    frames = models.PositiveIntegerField()
    joints = models.PositiveIntegerField()
    channels = models.PositiveIntegerField()
    keys = models.PositiveBigIntegerField()
    notes = models.JSONField(default=list)
    warnings = models.JSONField(default=list)
    picture = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)
    binned = models.DateTimeField(null=True)
    hidden = models.BooleanField(default=False)

    objects = TakeQuerySet.as_manager()

    class Meta:
        ordering = ["-created", "-id"]
        constraints = [
            models.CheckConstraint(condition=Q(rate_denominator__gt=0), name="take_rate_positive")
        ]

    def __str__(self) -> str:
        return self.name


class Profile(models.Model):
    """What a skeleton's joints are, as somebody has set it, for all skeletons of its family.

    ``names`` are the joints it was kept for, ``roles`` what was set by hand, ``groups`` own
    groups of joints by name.
    """

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="profiles")
    name = models.CharField(max_length=120)
    names = models.JSONField(default=list)
    roles = models.JSONField(default=dict)
    groups = models.JSONField(default=dict)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["workspace", "name"], name="profile_name_once")
        ]

    def __str__(self) -> str:
        return self.name


class Job(models.Model):
    """Long work that a worker does: progress, cancel and result outlive any page. One of no
    workspace is the studio's own."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    OPEN = (State.QUEUED, State.RUNNING)

    workspace = models.ForeignKey(
        Workspace, null=True, on_delete=models.CASCADE, related_name="jobs"
    )
    kind = models.CharField(max_length=40)
    title = models.CharField(max_length=255)
    state = models.CharField(max_length=12, choices=State, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.TextField(blank=True, default="")
    payload = models.JSONField(default=dict)
    result = models.JSONField(default=dict)
    cancel_requested = models.BooleanField(default=False)
    tries = models.PositiveSmallIntegerField(default=0)
    turn = models.BigIntegerField(default=0)
    """When its turn is among those of all workspaces: the lowest is next."""
    created = models.DateTimeField(auto_now_add=True)
    updated = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-id"]
        constraints = [
            models.CheckConstraint(
                condition=Q(progress__gte=0) & Q(progress__lte=1), name="job_progress_share"
            )
        ]
        indexes = [
            models.Index(
                fields=["workspace", "turn"],
                condition=Q(state__in=["queued", "running"]),
                name="job_open_turns",
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.title}"


class Preferences(models.Model):
    """What a person chose: theme, keys, pane sizes. A small JSON object."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    values: Any = models.JSONField(default=dict)


class Pulse(models.Model):
    """One row that is written to tell whether writing works."""

    data = models.BinaryField()

    @classmethod
    def beat(cls) -> None:
        """Write a few pages that cannot be compressed; raises what the database raises."""
        cls.objects.update_or_create(pk=1, defaults={"data": os.urandom(2**14)})
