"""What documents are kept as: blobs by content, states, and what is found in them."""

from django.db import models
from django.db.models.functions import Now

from documents.squeezing import SqueezedField


class Blob(models.Model):
    """Bytes named by the SHA-256 of their content, and kept smaller than they are: a channel's
    columns, a clip's header, or a recipe's line, compressed."""

    sha = models.CharField(primary_key=True, max_length=64)
    data = SqueezedField()

    class Meta:
        db_table = "editing_blob"  # where it stood first


class State(models.Model):
    """One immutable state of a document: its header, which names its skeleton and its tracks, and
    a blob a track.

    ``manifest`` is the tracks' digests in the header's order, 32 bytes each, one after another.
    ``before``, ``line`` and ``with_take`` say how it was made, where a line of a recipe did, and
    ``ms`` how long that took: it can be made again. One whose curves are not kept is ``pruned``;
    its ``witness`` (:mod:`documents.witness`) tells whether what is made again is what it was.
    ``used`` is by the database's clock: whoever sweeps compares it with that clock.
    """

    hash = models.CharField(primary_key=True, max_length=64)
    header = models.ForeignKey(Blob, on_delete=models.PROTECT, related_name="+")
    manifest = models.BinaryField()
    keys = models.PositiveBigIntegerField()
    before = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="+")
    with_take = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="+")
    line = models.CharField(max_length=64, default="")
    ms = models.FloatField(null=True)
    pruned = models.BooleanField(default=False)
    witness = models.BinaryField(null=True)
    used = models.DateTimeField(db_default=Now())

    class Meta:
        db_table = "editing_state"  # where it stood first


class Inspection(models.Model):
    """What is found in a state: measured once, since a state never changes.

    ``findings`` are as :func:`leancurve.measures.findings.find` gives them, ``work`` what they
    amount to.
    """

    state = models.OneToOneField(State, on_delete=models.CASCADE, primary_key=True)
    version = models.PositiveIntegerField()
    findings = models.JSONField(default=list)
    work = models.FloatField(default=0.0)

    class Meta:
        db_table = "editing_inspection"  # where it stood first
