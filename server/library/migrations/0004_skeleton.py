"""A skeleton is a row of its own, which takes refer to."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0003_remove_take_findings_profile")]
    operations = [
        migrations.CreateModel(
            "Skeleton",
            [
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=120)),
                ("digest", models.CharField(max_length=64)),
                ("joints", models.PositiveIntegerField()),
                (
                    "workspace",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="skeletons",
                        to="library.workspace",
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(
                        fields=["workspace", "digest"], name="skeleton_once"
                    )
                ]
            },
        ),
        migrations.AddField(
            "take",
            "skeleton",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="takes",
                to="library.skeleton",
            ),
        ),
    ]
