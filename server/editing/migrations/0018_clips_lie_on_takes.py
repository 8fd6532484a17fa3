"""A clip says which take its head lies on, and with which one it went into the bin."""

import django.db.models.deletion
from django.db import migrations, models
from django.db.models import F, OuterRef, Subquery
from django.db.models.functions import Coalesce


def fill(apps, schema_editor):
    clips = apps.get_model("editing", "Clip").objects
    heads = apps.get_model("editing", "Revision").objects.filter(pk=OuterRef("head_id"))
    clips.update(beneath_id=Coalesce(Subquery(heads.values("take_id")[:1]), F("take_id")))

    for take in apps.get_model("library", "Take").objects.exclude(binned=None):
        clips.filter(beneath=take, binned=None).update(binned=take.binned, binned_with=take)


def beneath(**more):
    return models.ForeignKey(
        on_delete=django.db.models.deletion.RESTRICT,
        related_name="worked_on",
        to="library.take",
        **more,
    )


class Migration(migrations.Migration):
    atomic = False
    dependencies = [("editing", "0017_takes_outlive_bins")]
    operations = [
        migrations.AddField("clip", "beneath", beneath(null=True)),
        migrations.AddField(
            "clip",
            "binned_with",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="+",
                to="library.take",
            ),
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AlterField("clip", "beneath", beneath()),
    ]
