"""Blobs, states and what is found in them are an app of their own, below the library. Their tables
stay where they are: nothing is copied."""

import django.db.models.deletion
import django.utils.timezone
from django.db import migrations, models


def made_from():
    return models.ForeignKey(
        null=True,
        on_delete=django.db.models.deletion.SET_NULL,
        related_name="+",
        to="documents.state",
    )


class Migration(migrations.Migration):
    dependencies = [("editing", "0010_states_made_again"), ("library", "0006_take_has_a_skeleton")]
    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    "Blob",
                    [
                        (
                            "sha",
                            models.CharField(max_length=64, primary_key=True, serialize=False),
                        ),
                        ("data", models.BinaryField()),
                    ],
                    options={"db_table": "editing_blob"},
                ),
                migrations.CreateModel(
                    "State",
                    [
                        (
                            "hash",
                            models.CharField(max_length=64, primary_key=True, serialize=False),
                        ),
                        (
                            "header",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.PROTECT,
                                related_name="+",
                                to="documents.blob",
                            ),
                        ),
                        ("manifest", models.BinaryField()),
                        ("keys", models.PositiveBigIntegerField()),
                        ("before", made_from()),
                        ("with_take", made_from()),
                        ("line", models.CharField(default="", max_length=64)),
                        ("ms", models.FloatField(null=True)),
                        ("pruned", models.BooleanField(default=False)),
                        ("used", models.DateTimeField(default=django.utils.timezone.now)),
                    ],
                    options={"db_table": "editing_state"},
                ),
                migrations.CreateModel(
                    "Inspection",
                    [
                        (
                            "state",
                            models.OneToOneField(
                                on_delete=django.db.models.deletion.CASCADE,
                                primary_key=True,
                                serialize=False,
                                to="documents.state",
                            ),
                        ),
                        ("version", models.PositiveIntegerField()),
                        ("findings", models.JSONField(default=list)),
                        ("work", models.FloatField(default=0.0)),
                    ],
                    options={"db_table": "editing_inspection"},
                ),
            ]
        )
    ]
