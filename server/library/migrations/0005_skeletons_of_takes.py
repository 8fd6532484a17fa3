"""Each take's skeleton, out of the header of its state, as a blob and a row of its own."""

import hashlib

import orjson
from django.db import migrations


def taken_out(apps, schema):
    Take, Skeleton = (apps.get_model("library", name) for name in ("Take", "Skeleton"))
    Blob = apps.get_model("editing", "Blob")
    for take in Take.objects.select_related("state__header").iterator():
        old = orjson.loads(bytes(take.state.header.data))["skeleton"]
        joints = old["joints"]
        data = orjson.dumps(
            {
                "names": [j["name"] for j in joints],
                "parents": [j["parent"] for j in joints],
                "offsets": [[float(v) for v in j["offset"]] for j in joints],
                "ends": [
                    {
                        "parent": e["parent"],
                        "offset": [float(v) for v in e["offset"]],
                        "before": e["before"],
                    }
                    for e in old["ends"]
                ],
            }
        )
        digest = hashlib.sha256(data).hexdigest()
        Blob.objects.get_or_create(sha=digest, defaults={"data": data})
        kept, _ = Skeleton.objects.get_or_create(
            workspace_id=take.workspace_id,
            digest=digest,
            defaults={"name": take.skeleton_name, "joints": len(joints)},
        )
        Take.objects.filter(pk=take.pk).update(skeleton=kept)


class Migration(migrations.Migration):
    dependencies = [("library", "0004_skeleton"), ("editing", "0007_camera")]
    operations = [migrations.RunPython(taken_out, migrations.RunPython.noop)]
