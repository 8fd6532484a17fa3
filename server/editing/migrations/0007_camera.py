from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("editing", "0006_lines")]

    operations = [
        migrations.AddField(
            model_name="clip", name="camera", field=models.JSONField(null=True)
        ),
    ]
