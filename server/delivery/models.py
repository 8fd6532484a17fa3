"""Deliveries: files made from clips in the form of a preset, and what reading them back showed."""

from django.conf import settings
from django.db import models
from editing.models import Clip, Revision
from library.models import Workspace


class Preset(models.Model):
    """The form in which a destination needs clips, by name: :mod:`leancurve.delivery.preset` says
    what its ``values`` are."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="presets")
    name = models.CharField(max_length=120)
    values = models.JSONField(default=dict)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["workspace", "name"], name="preset_name_once")
        ]

    def __str__(self) -> str:
        return self.name


class Handover(models.Model):
    """Clips that were delivered at once, in the form of one or several presets: delivery 3 of its
    workspace. ``presets`` are their names and values as they were then."""

    workspace = models.ForeignKey(Workspace, on_delete=models.CASCADE, related_name="handovers")
    number = models.PositiveIntegerField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL)
    presets = models.JSONField(default=list)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
        constraints = [
            models.UniqueConstraint(fields=["workspace", "number"], name="handover_number_once")
        ]

    def __str__(self) -> str:
        return f"Delivery {self.number}"


class Handed(models.Model):
    """A clip of a handover: the revision and the frames that go out. ``plan`` are its files with
    their names, chosen before any is made; ``refused`` those that could not be made, with the
    reason. ``report`` is what its delivery report says. ``unchanged`` is the handover that holds it
    as it still is: it was not made again, and has no job."""

    handover = models.ForeignKey(Handover, on_delete=models.CASCADE, related_name="clips")
    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="handed")
    revision = models.ForeignKey(Revision, on_delete=models.RESTRICT, related_name="+")
    first = models.PositiveIntegerField()
    last = models.PositiveIntegerField()
    plan = models.JSONField(default=list)
    refused = models.JSONField(default=list)
    report = models.JSONField(null=True)
    unchanged = models.ForeignKey(Handover, null=True, on_delete=models.SET_NULL, related_name="+")
    job = models.OneToOneField("library.Job", null=True, on_delete=models.SET_NULL)

    class Meta:
        ordering = ["id"]


class Delivery(models.Model):
    """A delivered file, kept as it was written, with its report: never changed."""

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="deliveries")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT)
    handed = models.ForeignKey(
        Handed, null=True, on_delete=models.SET_NULL, related_name="deliveries"
    )
    preset = models.JSONField(default=dict)
    """The values of the preset that it was made by."""
    file_name = models.CharField(max_length=160)
    data = models.BinaryField()
    size = models.PositiveBigIntegerField()
    report = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
