"""The app of the page Space; sweeping up what was left behind is a chore."""

from django.apps import AppConfig

from vinter.web.jobs.chores import register_chore


class SpaceConfig(AppConfig):
    """Registers the chore."""

    name = "vinter.web.space"

    def ready(self) -> None:
        """Name the function."""
        for chore in (
            "watch.note_alive",
            "space.usage.sweep",
            "space.ends.forget_old",
            "nights.years.forget_old_years",
            "keeping.back_up_when_due",
        ):
            register_chore(f"vinter.web.{chore}")
