"""Pack lists as rows, one a mark; what was ticked, added or left out is kept.

Earlier lists were kept by their words; those words lead to the keys of today.
"""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models
from django.utils.text import slugify

KEYS = {
    "Phone, charged, storage free": "phone",
    "Tripod and clamp": "tripod",
    "Red lamp": "red-lamp",
    "Lens cloth": "cloth",
    "Remote release or the delay set": "release",
    "Water, something to eat": "food",
    "Somebody knows where you are and when you will be back": "told-somebody",
    "Warm layers, hat, gloves that work the screen": "warm-layers",
    "Power bank in an inner pocket": "warm-bank",
    "Power bank and cable": "bank",
    "Heat pack and a band for the lens": "heat-pack",
    "Rest planned for the way back": "rest",
    "Charged second phone or whistle": "second-phone",
    "Boots, and the time of high water written down": "hazard-water",
    "Light to see animals by, dog repellent if you need it": "hazard-animals",
    "The ground walked once by day; a bright lamp for the way only": "hazard-edge",
    "Reflective vest for the road side": "hazard-road",
}


def _key(text: str, own: list[str]) -> str:
    if text in own:
        return f"own-{slugify(text) or text}"
    return KEYS.get(text, f"was-{slugify(text)}")


def rows(apps: Any, _: Any) -> None:
    """From the shots' data into rows."""
    marks = apps.get_model("field", "PackMark")
    for shot in apps.get_model("shots", "Shot").objects.all():
        own = list(shot.pack.get("own", []))
        packed, left = set(shot.pack.get("packed", [])), set(shot.pack.get("left", []))
        for text in dict.fromkeys([*own, *sorted(packed | left)]):
            marks.objects.get_or_create(
                shot=shot,
                key=_key(text, own)[:140],
                defaults={
                    "text": text if text in own else "",
                    "packed": text in packed,
                    "left_out": text in left,
                },
            )


class Migration(migrations.Migration):
    initial = True
    dependencies = [("shots", "0004_alone")]
    operations = [
        migrations.CreateModel(
            name="PackMark",
            fields=[
                ("id", models.BigAutoField(
 auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
)),
                ("key", models.CharField(max_length=140)),
                ("text", models.CharField(blank=True, default="", max_length=120)),
                ("packed", models.BooleanField(default=False)),
                ("left_out", models.BooleanField(default=False)),
                (
                    "shot",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, to="shots.shot"),
                ),
            ],
            options={"ordering": ["id"]},
        ),
        migrations.AddConstraint(
            "packmark", models.UniqueConstraint(fields=["shot", "key"], name="one_mark_per_item")
        ),
        migrations.RunPython(rows, migrations.RunPython.noop, elidable=True),
    ]
