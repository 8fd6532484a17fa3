"""How often a job was begun, and when its turn is among those of all workspaces."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0011_take_hidden")]
    operations = [
        migrations.AddField("job", "tries", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField("job", "turn", models.BigIntegerField(default=0)),
        migrations.AddIndex(
            "job",
            models.Index(
                fields=["workspace", "turn"],
                condition=models.Q(state__in=["queued", "running"]),
                name="job_open_turns",
            ),
        ),
    ]
