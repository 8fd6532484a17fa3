"""Deliveries: files made from a clip, and what reading them back showed."""

from django.db import models
from editing.models import Clip, Revision


class Delivery(models.Model):
    """A delivered file, kept as it was written, with its report."""

    clip = models.ForeignKey(Clip, on_delete=models.CASCADE, related_name="deliveries")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT)
    job = models.OneToOneField("library.Job", null=True, on_delete=models.SET_NULL)
    file_name = models.CharField(max_length=160)
    data = models.BinaryField()
    size = models.PositiveBigIntegerField()
    report = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
