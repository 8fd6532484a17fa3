"""A recipe's lines are kept once each, revisions name them."""

import hashlib
import zlib

import orjson
from django.db import migrations, models


def kept_once(apps, schema):
    Revision, Blob = (apps.get_model("editing", name) for name in ("Revision", "Blob"))
    for revision in Revision.objects.only("pk", "recipe").iterator():
        packed = [
            zlib.compress(orjson.dumps(line, option=orjson.OPT_SORT_KEYS))
            for line in revision.recipe
        ]
        blobs = {hashlib.sha256(data).hexdigest(): data for data in packed}
        Blob.objects.bulk_create(
            [Blob(sha=sha, data=data) for sha, data in blobs.items()], ignore_conflicts=True
        )
        digests = [hashlib.sha256(data).hexdigest() for data in packed]
        Revision.objects.filter(pk=revision.pk).update(lines=digests)


class Migration(migrations.Migration):
    dependencies = [("editing", "0005_recipes")]
    operations = [
        migrations.AddField("revision", "lines", models.JSONField(default=list)),
        migrations.RunPython(kept_once, migrations.RunPython.noop),
        migrations.RemoveField("revision", "recipe"),
    ]
