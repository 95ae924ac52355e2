"""Bring the database up to date; an empty one gets its tables as they are now, without what they were."""

from django.apps import apps
from django.core.management.commands import migrate
from django.db import connections
from django.db.backends.base.base import BaseDatabaseWrapper
from django.db.migrations.loader import MigrationLoader
from django.db.migrations.recorder import MigrationRecorder

# an answer to one of these asks for something else than the newest state of everything
ASKED_OTHERWISE = ("app_label", "fake", "fake_initial", "plan", "check_unapplied", "prune")


class Command(migrate.Command):
    """Django's own, quicker for an empty database: sixty steps that nobody's rows need are not taken."""

    def handle(self, *args: object, **options: object) -> None:
        """Make the tables of an empty database at once, then do what is left."""
        connection = connections[str(options["database"])]
        plain = not any(options.get(name) for name in ASKED_OTHERWISE)
        if plain and not connection.introspection.table_names():
            make_tables(connection)
        super().handle(*args, **options)


def make_tables(connection: BaseDatabaseWrapper) -> None:
    """All tables of the models as they are now, in an empty database, and every migration noted as done:
    there at once or not at all."""
    loader = MigrationLoader(connection)
    recorder = MigrationRecorder(connection)
    with connection.schema_editor() as editor:
        for model in apps.get_models():  # each makes the tables of its many-to-many fields too
            if model._meta.can_migrate(connection) and model._meta.app_label in loader.migrated_apps:
                editor.create_model(model)
        editor.create_model(recorder.Migration)
        for app, name in loader.graph.nodes:
            recorder.record_applied(app, name)
