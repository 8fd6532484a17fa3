import django.db.models.deletion
from django.db import migrations, models

CASCADE, PROTECT = django.db.models.deletion.CASCADE, django.db.models.deletion.PROTECT


def state(on_delete, **more):
    return models.ForeignKey(on_delete=on_delete, to="documents.state", **more)


class Migration(migrations.Migration):
    dependencies = [("editing", "0010_states_made_again"), ("library", "0007_state_of_documents")]
    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.AlterField("memo", "state", state(CASCADE)),
                migrations.AlterField("memo", "take", state(CASCADE, null=True, related_name="+")),
                migrations.AlterField("revision", "state", state(PROTECT)),
                migrations.AlterField(
                    "revision", "before", state(PROTECT, null=True, related_name="+")
                ),
                migrations.AlterField(
                    "revision", "take_state", state(PROTECT, null=True, related_name="+")
                ),
                migrations.DeleteModel("Inspection"),
                migrations.DeleteModel("State"),
                migrations.DeleteModel("Blob"),
            ]
        )
    ]
