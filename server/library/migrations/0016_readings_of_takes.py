"""Which of its file's takes a take is, and how the file was read."""

from django.db import migrations, models
from django.db.models import F, Window
from django.db.models.functions import RowNumber


def tell_parts(apps, schema_editor):
    takes = apps.get_model("library", "Take").objects
    number = Window(RowNumber(), partition_by=F("file"), order_by=F("pk").asc())
    several = [t for t in takes.annotate(number=number).only("pk") if t.number > 1]
    for take in several:
        take.part = take.number - 1
    takes.bulk_update(several, ["part"], batch_size=1_000)


class Migration(migrations.Migration):
    dependencies = [("library", "0015_skeleton_skin")]
    operations = [
        migrations.AddField("take", "part", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField("take", "choices", models.JSONField(default=dict)),
        migrations.RunPython(tell_parts, migrations.RunPython.noop, elidable=True),
    ]
