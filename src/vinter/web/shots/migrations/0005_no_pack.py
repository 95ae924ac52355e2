"""The pack list has rows of its own now, in the field."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("shots", "0004_alone"), ("field", "0001_initial")]
    operations = [migrations.RemoveField("shot", "pack")]
