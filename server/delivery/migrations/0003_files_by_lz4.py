"""Delivered files are text: lz4 keeps them as small and is several times as fast as PostgreSQL's own."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("delivery", "0002_initial")]
    operations = [
        migrations.RunSQL(
            "ALTER TABLE delivery_delivery ALTER COLUMN data SET COMPRESSION lz4",
            "ALTER TABLE delivery_delivery ALTER COLUMN data SET COMPRESSION DEFAULT",
        ),
    ]
