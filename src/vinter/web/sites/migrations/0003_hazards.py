"""Dangers of a site as choices; those that its words named are chosen, the words stay."""

from typing import Any

from django.db import migrations, models

NAMED = {
    "water": ("tide", "dyke", "mud", "river", "water", "sea", "marsh", "flood"),
    "edge": ("quarry", "cliff", "edge", "drop", "rock"),
    "animals": ("livestock", "cattle", "cows", "dogs", "snake", "boar", "sheep", "wildlife"),
    "road": ("road", "verge", "layby", "traffic"),
    "private": ("private", "permission"),
    "no_signal": ("no signal", "no network"),
}


def chosen(apps: Any, _: Any) -> None:
    """Choose what the words of cautions and access name."""
    for site in apps.get_model("sites", "Site").objects.all():
        words = f"{site.cautions} {site.access}".lower()
        site.hazards = [key for key, names in NAMED.items() if any(name in words for name in names)]
        site.save(update_fields=["hazards"])


class Migration(migrations.Migration):
    dependencies = [("sites", "0002_what_is_known")]
    operations = [
        migrations.AddField("site", "hazards", models.JSONField(blank=True, default=list)),
        migrations.RunPython(chosen, migrations.RunPython.noop, elidable=True),
    ]
