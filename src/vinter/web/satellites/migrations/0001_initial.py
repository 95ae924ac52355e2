"""Elements move here from the shots; the table stays as it is."""

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True
    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
        ("shots", "0003_modes_and_elements"),
    ]
    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Elements",
                    fields=[
                        ("id", models.BigAutoField(
 auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
)),
                        ("name", models.CharField(max_length=120)),
                        ("text", models.TextField()),
                        ("added", models.DateTimeField(auto_now_add=True)),
                        (
                            "owner",
                            models.ForeignKey(
                                on_delete=django.db.models.deletion.CASCADE, to=settings.AUTH_USER_MODEL
                            ),
                        ),
                    ],
                    options={"ordering": ["-id"], "db_table": "shots_elements"},
                )
            ]
        )
    ]
