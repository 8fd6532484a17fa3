"""Several takes may have come in one file."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0013_mark_demo_account")]
    operations = [
        migrations.AlterField(
            "take",
            "file",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT, to="library.storedfile"
            ),
        ),
    ]
