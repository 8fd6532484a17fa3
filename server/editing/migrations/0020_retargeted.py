"""Retargeting has its own name everywhere: its model, and jobs that wait for it."""

import django.db.models.deletion
from django.db import migrations, models


def rename_jobs(apps, schema_editor):
    apps.get_model("library", "Job").objects.filter(kind="carry").update(kind="retarget")


def kept(to, **more):
    return models.ForeignKey(
        null=True, on_delete=django.db.models.deletion.SET_NULL, to=to, **more
    )


class Migration(migrations.Migration):
    dependencies = [
        ("editing", "0019_revisions_time_maps"),
        ("library", "0013_mark_demo_account"),
    ]
    operations = [
        migrations.RenameModel("Carried", "Retargeted"),
        migrations.AlterField(
            "retargeted", "take",
            models.OneToOneField(
                on_delete=django.db.models.deletion.CASCADE,
                related_name="retargeted",
                to="library.take",
            ),
        ),
        migrations.AlterField(
            "retargeted", "source", kept("editing.revision", related_name="retargeted")
        ),
        migrations.RunPython(rename_jobs, migrations.RunPython.noop),
    ]
