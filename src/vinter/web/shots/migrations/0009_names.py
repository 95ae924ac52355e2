from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("shots", "0008_record")]
    operations = [
        migrations.RenameField("shot", "own", "manual_settings"),
        migrations.RenameField("shot", "said", "forecast_chance"),
    ]
