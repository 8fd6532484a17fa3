"""Parts are squeezed from now on; those that are there stay as they are and are read as before."""

from django.db import migrations

from documents.squeezing import SqueezedField


class Migration(migrations.Migration):
    dependencies = [("documents", "0002_state_witness")]
    operations = [migrations.AlterField("blob", "data", SqueezedField())]
