"""A take on which revisions lie outlives the bin, hidden."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("library", "0010_places_own_jobs")]
    operations = [migrations.AddField("take", "hidden", models.BooleanField(default=False))]
