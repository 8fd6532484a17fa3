import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0005_skeletons_of_takes")]
    operations = [
        migrations.AlterField(
            "take",
            "skeleton",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="takes",
                to="library.skeleton",
            ),
        ),
        migrations.RemoveField("take", "skeleton_name"),
    ]
