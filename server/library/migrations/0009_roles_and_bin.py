"""Memberships with a role, where there was a plain list; takes that can be put back; quotas."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

ROLES = [("owner", "Owner"), ("editor", "Editor"), ("viewer", "Viewer")]


class Migration(migrations.Migration):
    dependencies = [
        ("library", "0008_pulse"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.AddField("take", "binned", models.DateTimeField(null=True)),
        migrations.AddField("workspace", "most_bytes", models.PositiveBigIntegerField(null=True)),
        migrations.AddField("workspace", "most_takes", models.PositiveIntegerField(null=True)),
        # The table of members stays where it is and gets a column.
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Membership",
                    fields=[
                        (
                            "id",
                            models.BigAutoField(
                                auto_created=True,
                                primary_key=True,
                                serialize=False,
                                verbose_name="ID",
                            ),
                        ),
                        (
                            "user",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE,
                                related_name="memberships",
                                to=settings.AUTH_USER_MODEL,
                            ),
                        ),
                        (
                            "workspace",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE,
                                related_name="memberships",
                                to="library.workspace",
                            ),
                        ),
                    ],
                    options={
                        "db_table": "library_workspace_members",
                        "unique_together": {("workspace", "user")},
                    },
                ),
                migrations.AlterField(
                    "workspace",
                    "members",
                    models.ManyToManyField(
                        related_name="workspaces",
                        through="library.Membership",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
        ),
        # Whoever was a member could do everything, and still can.
        migrations.AddField(
            "membership",
            "role",
            models.CharField(choices=ROLES, default="owner", max_length=8),
        ),
        migrations.AlterField(
            "membership",
            "role",
            models.CharField(choices=ROLES, default="editor", max_length=8),
        ),
    ]
