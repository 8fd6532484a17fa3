"""Blobs are doubles, which do not compress: stored out of line as they are, written faster."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("editing", "0002_initial")]
    operations = [
        migrations.RunSQL(
            "ALTER TABLE editing_blob ALTER COLUMN data SET STORAGE EXTERNAL",
            "ALTER TABLE editing_blob ALTER COLUMN data SET STORAGE EXTENDED",
        ),
    ]
