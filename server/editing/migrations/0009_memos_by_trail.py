"""What lines made is named by the way there, no longer by the state before: a whole recipe is
looked up at once. Names are computed here as they were and as they are at this step."""

import hashlib
import zlib

import orjson
from django.db import migrations

PARTS = ("operation", "version", "params", "scope")
RETIMES = {
    "trim", "change_rate", "repeat", "retime", "scale_span", "remove_span", "insert_frames",
    "shift_from",
}  # fmt: skip


def digest(what):
    return hashlib.sha256(orjson.dumps(what, option=orjson.OPT_SORT_KEYS)).hexdigest()


def was(line, before, take):
    used = [before] + ([take] if line["operation"] == "brush" else [])
    return digest([{p: line[p] for p in PARTS}, *used])


def renamed(apps, schema):
    Memo, Revision, Blob = (apps.get_model("editing", n) for n in ("Memo", "Revision", "Blob"))
    old = set(Memo.objects.values_list("pk", flat=True))
    for revision in Revision.objects.select_related("clip__take", "take").order_by("id").iterator():
        blobs = Blob.objects.in_bulk(revision.lines)
        recipe = [orjson.loads(zlib.decompress(bytes(blobs[s].data))) for s in revision.lines]
        state = take = (revision.take or revision.clip.take).state_id
        key = digest(("take", state))
        before = None
        for k, line in enumerate(recipe):
            memo = Memo.objects.filter(pk=was(line, state, take)).first()
            key = digest((key, {p: line[p] for p in PARTS}))
            before, last = state, k == len(recipe) - 1
            report = memo.report if memo else revision.report if last else {}
            state = revision.state_id if last else memo.state_id if memo else None
            if state is None:
                break
            if line["operation"] in RETIMES:
                take = moved(Memo, line, report, take)
                if take is None:
                    break
            Memo.objects.get_or_create(
                pk=key, defaults={"state_id": state, "take_id": take, "report": report}
            )
        else:
            Revision.objects.filter(pk=revision.pk).update(before=before, take_state=take)
    Memo.objects.filter(pk__in=old).delete()


def moved(Memo, line, report, take):
    params = line["params"]
    if line["operation"] == "trim":
        if "first" not in report:
            return None
        params = {"first": report["first"], "last": report["last"], "calibration": False}
    memo = Memo.objects.filter(pk=was({**line, "params": params, "scope": {}}, take, take)).first()
    return memo.state_id if memo else None


class Migration(migrations.Migration):
    dependencies = [("editing", "0008_takes_time"), ("library", "0006_take_has_a_skeleton")]
    operations = [migrations.RunPython(renamed, migrations.RunPython.noop)]
