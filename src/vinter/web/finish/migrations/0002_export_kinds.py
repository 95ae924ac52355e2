"""Kinds of export are the core's; the database keeps their key."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("finish", "0001_initial")]
    operations = [migrations.AlterField("export", "kind", models.CharField(max_length=10))]
