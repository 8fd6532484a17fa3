"""Whoever has the demo's printed password is marked as such."""

from django.contrib.auth.hashers import check_password
from django.db import migrations


def mark(apps, schema_editor):
    people = apps.get_model("auth", "User").objects.filter(username="deckhand")
    for user in people:
        if check_password("harbour-light", user.password):
            group, _ = apps.get_model("auth", "Group").objects.get_or_create(name="the demo's")
            user.groups.add(group)


class Migration(migrations.Migration):
    dependencies = [
        ("library", "0012_job_turns"),
        ("auth", "0012_alter_user_first_name_max_length"),
    ]
    operations = [migrations.RunPython(mark, migrations.RunPython.noop)]
