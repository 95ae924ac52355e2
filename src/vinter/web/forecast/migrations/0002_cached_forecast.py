"""A clearer name."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("forecast", "0001_initial")]
    operations = [migrations.RenameModel("Reading", "CachedForecast")]
