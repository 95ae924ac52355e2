"""Elements left for the satellites; whether one goes alone is a field of its own."""

from typing import Any

from django.db import migrations, models


def alone(apps: Any, _: Any) -> None:
    """From the old pack list's data."""
    for shot in apps.get_model("shots", "Shot").objects.all():
        shot.alone = bool(shot.pack.get("alone", True))
        shot.save(update_fields=["alone"])


class Migration(migrations.Migration):
    dependencies = [("shots", "0003_modes_and_elements"), ("satellites", "0001_initial")]
    operations = [
        migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel("Elements")]),
        migrations.AddField("shot", "alone", models.BooleanField(default=True)),
        migrations.RunPython(alone, migrations.RunPython.noop, elidable=True),
    ]
