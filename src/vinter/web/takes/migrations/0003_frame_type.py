"""Clearer names."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("takes", "0002_sorts")]
    operations = [
        migrations.RenameField("frame", "sort", "frame_type"),
        migrations.RenameField("frame", "sorted_by_hand", "type_set_by_hand"),
    ]
