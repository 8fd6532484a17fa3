import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0006_take_has_a_skeleton"), ("documents", "0001_moved_here")]
    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.AlterField(
                    "take",
                    "state",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, to="documents.state"
                    ),
                )
            ]
        )
    ]
