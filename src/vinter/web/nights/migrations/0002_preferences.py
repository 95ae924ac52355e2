"""Thresholds as one JSON field of those that are set; what people set is kept."""

from typing import Any

from django.db import migrations, models

COLUMNS = (
    "min_altitude",
    "sun_below",
    "moon_cost",
    "new_moon_days",
    "lit_percent",
    "moon_up_minutes",
    "darkest_class",
    "suburb_class",
)


def gather(apps: Any, _: Any) -> None:
    """From columns into the JSON field."""
    for row in apps.get_model("nights", "Preferences").objects.all():
        row.thresholds = {name: getattr(row, name) for name in COLUMNS}
        row.save(update_fields=["thresholds"])


class Migration(migrations.Migration):
    dependencies = [("nights", "0001_initial")]
    operations = [
        migrations.RenameModel("Habits", "Preferences"),
        migrations.AddField("preferences", "thresholds", models.JSONField(default=dict)),
        migrations.RunPython(gather, migrations.RunPython.noop, elidable=True),
        *(migrations.RemoveField("preferences", name) for name in COLUMNS),
        migrations.AlterField("preferences", "drive_limit", models.FloatField(default=90.0)),
    ]
