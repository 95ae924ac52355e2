"""The app of the bin; emptying it after a week is a chore."""

from django.apps import AppConfig

from vinter.web.jobs.chores import register_chore


class BinConfig(AppConfig):
    """Registers the chore."""

    name = "vinter.web.bin"

    def ready(self) -> None:
        """Name the function."""
        register_chore("vinter.web.bin.models.purge")
