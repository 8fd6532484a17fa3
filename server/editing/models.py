"""Clips as documents: blobs, states, revisions, memoised lines."""

from typing import Any

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser
from django.db import models
from django.utils.functional import cached_property
from documents.blobs import kept_lines
from documents.models import State
from library.models import Take, Workspace


class Memo(models.Model):
    """What the lines of a recipe up to one made of a take: nothing is computed twice.

    ``key`` follows from the take's state and the lines (:func:`editing.recipes.trail`), so that a
    whole recipe is looked up at once. ``take`` is the take as read, brought through the same
    changes of time; ``drift`` what the last line did by itself, once it was asked for.
    """

    key = models.CharField(primary_key=True, max_length=64)
    state = models.ForeignKey(State, on_delete=models.CASCADE)
    take = models.ForeignKey(State, null=True, on_delete=models.CASCADE, related_name="+")
    report = models.JSONField(default=dict)
    drift = models.JSONField(null=True)
    created = models.DateTimeField(auto_now_add=True)


class ClipQuerySet(models.QuerySet["Clip"]):
    def seen_by(self, user: AbstractBaseUser) -> "ClipQuerySet":
        return self.filter(workspace__members=user, binned=None)


class Clip(models.Model):
    """A take being worked on. ``head`` is what is shown; ``tip`` the end of its branch (redo);
    ``binned`` when it was deleted, ``binned_with`` the take that it went along with. ``take`` is
    what it was made of, ``beneath`` what its head lies on: another take may have been put beneath
    it."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="clips")
    take = models.ForeignKey(Take, on_delete=models.RESTRICT, related_name="clips")
    beneath = models.ForeignKey(Take, on_delete=models.RESTRICT, related_name="worked_on")
    name = models.CharField(max_length=255)
    head = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    tip = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    opened = models.DateTimeField(auto_now=True)
    binned = models.DateTimeField(null=True)
    binned_with = models.ForeignKey(Take, null=True, on_delete=models.SET_NULL, related_name="+")
    camera = models.JSONField(null=True)
    """A placed camera to look through: position and target in metres, field of view in degrees."""

    objects = ClipQuerySet.as_manager()

    def __str__(self) -> str:
        return self.name


class Revision(models.Model):
    """A step of a clip's history: the recipe that made it and the state it made.

    ``take`` is what lies beneath it: undoing a swap brings the other take back. ``lines`` are the
    digests of its recipe's lines: revisions of one clip have most of them in common. ``before`` is
    what stood before the last of them, ``take_state`` the take as read on this revision's time:
    what it is to be compared with. ``time_map`` says where the frames of its parent lie, as the
    pieces of a :class:`leancurve.time.maps.TimeMap`: none where they lie as they did, and None
    where it is not known yet.
    """

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="revisions")
    take = models.ForeignKey(Take, null=True, on_delete=models.RESTRICT, related_name="+")
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="+")
    number = models.PositiveIntegerField()
    lines = models.JSONField(default=list)
    state = models.ForeignKey(State, on_delete=models.PROTECT)
    before = models.ForeignKey(State, null=True, on_delete=models.PROTECT, related_name="+")
    take_state = models.ForeignKey(State, null=True, on_delete=models.PROTECT, related_name="+")
    time_map = models.JSONField(null=True)
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
        return kept_lines(self.lines)


class Chosen(models.Model):
    """A document that a line of a clip works with and names: it stays as long as the clip does."""

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="chosen")
    state = models.ForeignKey(State, on_delete=models.PROTECT, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["clip", "state"], name="chosen_once")]


class Retargeted(models.Model):
    """A take made of a revision of another clip: the take holds all of it, and stays what it is
    when the source goes on. It is to be retargeted onto a skeleton, the ``target``'s; or cut; or it
    is ``version_of`` the take that the source lies on. ``request`` is what asked for it."""

    take = models.OneToOneField(Take, on_delete=models.CASCADE, related_name="retargeted")
    source = models.ForeignKey(
        Revision, null=True, on_delete=models.SET_NULL, related_name="retargeted"
    )
    target = models.ForeignKey(Take, null=True, on_delete=models.SET_NULL, related_name="+")
    version_of = models.ForeignKey(
        Take, null=True, on_delete=models.SET_NULL, related_name="versions"
    )
    request = models.UUIDField(unique=True)


class JointMap(models.Model):
    """What was set by hand between two skeletons, for all pairs of their families: source joints of
    target joints, chains that follow others, and turns of target joints at rest."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="joint_maps")
    source = models.JSONField(default=list)
    target = models.JSONField(default=list)
    joints = models.JSONField(default=dict)
    chains = models.JSONField(default=list)
    rest = models.JSONField(default=dict)
    changed = models.DateTimeField(auto_now=True)


class StoredMotion(models.Model):
    """A pose, of one frame, or a motion that is kept to be used again: what a clip showed, with all
    that lay over its curves. ``joints`` are those that it is about, by name; ``picture`` shows it.
    """

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="stored")
    name = models.CharField(max_length=120)
    tags = models.JSONField(default=list)
    joints = models.JSONField(default=list)
    frames = models.PositiveIntegerField()
    state = models.ForeignKey(State, on_delete=models.PROTECT, related_name="+")
    picture = models.JSONField(default=dict)
    changed = models.DateTimeField(auto_now=True)
    binned = models.DateTimeField(null=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(
                fields=["workspace", "name"],
                condition=models.Q(binned=None),
                name="stored_name_once",
            )
        ]

    def __str__(self) -> str:
        return self.name


class Recipe(models.Model):
    """Lines of operations kept by name, to be applied to other takes.

    ``rate`` is that of the take they were made on, as ``[60, 1]``: frames mean its seconds.
    """

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="recipes")
    name = models.CharField(max_length=120)
    lines = models.JSONField(default=list)
    rate = models.JSONField(null=True)
    changed = models.DateTimeField(auto_now=True)
    binned = models.DateTimeField(null=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(
                fields=["workspace", "name"],
                condition=models.Q(binned=None),
                name="recipe_name_once",
            )
        ]

    def __str__(self) -> str:
        return self.name


class Presence(models.Model):
    """Who has a clip open, and when their page was last heard of."""

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="presences")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    page = models.CharField(max_length=64)
    seen = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["clip", "page"], name="page_once")]


class Batch(models.Model):
    """A recipe on many takes: one job each, their results one table. ``rate`` as in a recipe."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="batches")
    name = models.CharField(max_length=120)
    lines = models.JSONField(default=list)
    rate = models.JSONField(null=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return self.name
