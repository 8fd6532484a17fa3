"""A revision says where the frames of its parent lie; what is older is looked at when it is asked."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("editing", "0018_clips_lie_on_takes")]
    operations = [
        migrations.AddField(
            model_name="revision", name="time_map", field=models.JSONField(null=True)
        ),
    ]
