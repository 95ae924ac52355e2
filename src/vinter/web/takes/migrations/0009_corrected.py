from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("takes", "0008_focus")]
    operations = [migrations.AddField("take", "corrected", models.JSONField(default=dict))]
