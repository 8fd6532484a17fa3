"""Files are text: lz4 keeps them as small and is several times as fast as PostgreSQL's own."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("library", "0001_initial")]
    operations = [
        migrations.RunSQL(
            "ALTER TABLE library_storedfile ALTER COLUMN data SET COMPRESSION lz4",
            "ALTER TABLE library_storedfile ALTER COLUMN data SET COMPRESSION DEFAULT",
        ),
    ]
