"""The take on a revision's time and what stood before its last line are kept with it; recipes say
at which rate their frames are meant."""

import django.db.models.deletion
from django.db import migrations, models


def state(on_delete):
    return models.ForeignKey(
        null=True, on_delete=on_delete, related_name="+", to="editing.state"
    )


class Migration(migrations.Migration):
    dependencies = [("editing", "0007_camera")]
    operations = [
        migrations.AddField("batch", "rate", models.JSONField(null=True)),
        migrations.AddField("recipe", "rate", models.JSONField(null=True)),
        migrations.AddField("memo", "take", state(django.db.models.deletion.CASCADE)),
        migrations.AddField("revision", "before", state(django.db.models.deletion.PROTECT)),
        migrations.AddField("revision", "take_state", state(django.db.models.deletion.PROTECT)),
    ]
