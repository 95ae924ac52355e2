"""manage seed_demo: make the demo data."""

from django.core.management.base import BaseCommand

from vinter.web.demo.seed import seed


class Command(BaseCommand):
    """Make the demo photographer with phones, sites, a planned shot and four past nights."""

    help = "Make the demo data; safe to run again."

    def handle(self, *args: object, **options: object) -> None:
        """Run it."""
        seed(past=True)
