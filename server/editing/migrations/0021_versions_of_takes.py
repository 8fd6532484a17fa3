"""A take may be the next version of another one."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("editing", "0020_retargeted"),
        ("library", "0013_mark_demo_account"),
    ]
    operations = [
        migrations.AddField(
            "retargeted",
            "version_of",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="versions",
                to="library.take",
            ),
        ),
    ]
