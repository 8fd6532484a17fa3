"""States say how they were made, so that those of old revisions need not be kept."""

import django.db.models.deletion
import django.utils.timezone
from django.db import migrations, models


def made_from():
    return models.ForeignKey(
        null=True,
        on_delete=django.db.models.deletion.SET_NULL,
        related_name="+",
        to="editing.state",
    )


class Migration(migrations.Migration):
    dependencies = [("editing", "0009_memos_by_trail")]
    operations = [
        migrations.AddField("state", "before", made_from()),
        migrations.AddField("state", "with_take", made_from()),
        migrations.AddField("state", "line", models.CharField(default="", max_length=64)),
        migrations.AddField("state", "ms", models.FloatField(null=True)),
        migrations.AddField("state", "pruned", models.BooleanField(default=False)),
        migrations.AddField(
            "state", "used", models.DateTimeField(default=django.utils.timezone.now)
        ),
    ]
