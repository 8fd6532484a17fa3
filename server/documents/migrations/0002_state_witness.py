"""States that are given up leave a witness; when one was used is told by the database's clock."""

from django.db import migrations, models
from django.db.models.functions import Now


class Migration(migrations.Migration):
    dependencies = [("documents", "0001_moved_here")]
    operations = [
        migrations.AddField("state", "witness", models.BinaryField(null=True)),
        migrations.AlterField("state", "used", models.DateTimeField(db_default=Now())),
    ]
