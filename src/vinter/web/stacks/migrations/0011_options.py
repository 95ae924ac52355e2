"""Options are one piece of data, and joined or lucky is a kind of stack."""

from django.db import migrations, models

NAMES = ("method", "kappa", "match", "lens", "share", "lamp", "corners", "gaps", "tail")


def gathered(apps, schema_editor):
    for one in apps.get_model("stacks", "Stack")._base_manager.all():
        options = {name: getattr(one, name) for name in NAMES}
        if options["method"] in ("join", "lucky"):
            one.kind = options.pop("method")
        one.options = options
        one.save(update_fields=["kind", "options"])


class Migration(migrations.Migration):
    dependencies = [("stacks", "0010_corners_auto")]
    operations = [
        migrations.AddField("stack", "kind", models.CharField(default="stack", max_length=10)),
        migrations.AddField("stack", "options", models.JSONField(default=dict)),
        migrations.RunPython(gathered, migrations.RunPython.noop),
        *(migrations.RemoveField("stack", name) for name in NAMES),
    ]
