"""A skeleton may have a body."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0014_takes_of_one_file")]
    operations = [
        migrations.AddField(
            "skeleton", "skin", models.CharField(blank=True, default="", max_length=64)
        ),
        migrations.AddField("skeleton", "triangles", models.PositiveIntegerField(default=0)),
    ]
