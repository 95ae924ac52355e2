"""Corners that the stars show to be darker are evened out unless somebody says otherwise."""

from django.db import migrations, models


def renamed(apps, schema_editor):
    apps.get_model("stacks", "Stack").objects.filter(corners="stars").update(corners="auto")


class Migration(migrations.Migration):
    dependencies = [("stacks", "0009_lucky")]
    operations = [
        migrations.AlterField("stack", "corners", models.CharField(default="auto", max_length=5)),
        migrations.RunPython(renamed, migrations.RunPython.noop),
    ]
