from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("takes", "0009_corrected")]
    operations = [migrations.RenameField("take", "told", "simulation_overrides")]
