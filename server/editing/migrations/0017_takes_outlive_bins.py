"""No take is deleted that a clip or a revision lies on."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("editing", "0016_stored_motions"), ("library", "0012_job_turns")]
    operations = [
        migrations.AlterField(
            "clip",
            "take",
            models.ForeignKey(
                on_delete=django.db.models.deletion.RESTRICT,
                related_name="clips",
                to="library.take",
            ),
        ),
        migrations.AlterField(
            "revision",
            "take",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.RESTRICT,
                related_name="+",
                to="library.take",
            ),
        ),
    ]
