"""A person of five years beside one of four nights: how long pages take, how many queries, how many bytes.

usage: bench/growth.py [--copies 74]

Makes a home with demo data, opens its lists, then copies its nights over the years before and opens them
again. Prints, by page, milliseconds (the best of three), queries and bytes of both, and their ratio. Times
depend on the machine; the ratio hardly does.
"""

import argparse
import copy
import os
import tempfile
import time
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

if TYPE_CHECKING:
    from django.contrib.auth.models import User
    from django.db.models import Model
    from django.test import Client

ROOT = Path(__file__).resolve().parents[1]
PAGES = (
    "ledger",
    "takes",
    "shots",
    "stacks",
    "finishes",
    "space",
    "home",
    "sites",
    "ledger-csv",
    "ledger-json",
)
WEEKS = 3.5  # between a night and its copy


R = TypeVar("R", bound="Model")


def _copied(row: R, **changed: object) -> R:
    new = copy.copy(row)
    new._state = copy.copy(row._state)
    new._state.fields_cache = {}
    new.pk = None
    for name, value in changed.items():
        setattr(new, name, value)
    return new


def grow(owner: "User", copies: int, sites: int = 33) -> None:
    """Copy all nights of a person ``copies`` times into the years before, over so many sites; rows only,
    their files stay those of the first."""
    from vinter.web.finish.models import Finish
    from vinter.web.jobs.models import Job
    from vinter.web.shots.models import Shot
    from vinter.web.sites.models import Site
    from vinter.web.stacks.models import Stack
    from vinter.web.takes.models import Frame, Take

    places = list(Site.objects.filter(owner=owner))
    more = [
        _copied(places[k % len(places)], name=f"Place {k}", lat=places[k % len(places)].lat + 0.05 * k)
        for k in range(len(places), sites)
    ]
    Site.objects.bulk_create(more)
    places = list(Site.objects.filter(owner=owner))
    shots = list(Shot.objects.filter(owner=owner))
    takes = list(Take.objects.filter(owner=owner))
    frames = list(Frame.objects.filter(take__owner=owner))
    stacks = list(Stack.objects.filter(owner=owner))
    finishes = list(Finish.objects.filter(owner=owner))
    jobs = list(Job.objects.filter(owner=owner))
    for k in range(1, copies + 1):
        back = timedelta(weeks=WEEKS * k)
        shot_of = {
            s.pk: _copied(
                s, night=s.night - back, moment=s.moment - back.total_seconds(), site=places[k % len(places)]
            )
            for s in shots
        }
        Shot.objects.bulk_create(shot_of.values())
        take_of = {t.pk: _copied(t, shot=shot_of[t.shot_id] if t.shot_id else None) for t in takes}
        Take.objects.bulk_create(take_of.values())
        Frame.objects.bulk_create([_copied(f, take=take_of[f.take_id]) for f in frames])
        stack_of = {s.pk: _copied(s, take=take_of[s.take_id]) for s in stacks}
        Stack.objects.bulk_create(stack_of.values())
        Finish.objects.bulk_create([_copied(f, stack=stack_of[f.stack_id]) for f in finishes])
        Job.objects.bulk_create([_copied(j) for j in jobs])


def opened(client: "Client", address: str) -> tuple[float, int, int]:
    """The best of three times, seconds; queries and bytes of a page."""
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    best, queries, size = 1e9, 0, 0
    for _ in range(3):
        with CaptureQueriesContext(connection) as seen:
            begun = time.perf_counter()
            answer = client.get(address, headers={"host": "localhost"})
            size = len(b"".join(answer))  # also of one that is sent as it is made
            best = min(best, time.perf_counter() - begun)
        assert answer.status_code in (200, 202), (address, answer.status_code)
        queries = len(seen)
    return best, queries, size


def main() -> None:
    """Print the table."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--copies", type=int, default=74)
    copies = asked.parse_args().copies
    with tempfile.TemporaryDirectory() as home:
        os.environ |= {
            "VINTER_HOME": home,
            "DJANGO_SETTINGS_MODULE": "vinter.web.settings",
            "VINTER_DEBUG": "",
        }
        from demo_home import make_demo_home  # beside this script

        make_demo_home(Path(home), dict(os.environ))
        import django

        django.setup()
        from django.contrib.auth import get_user_model
        from django.test import Client
        from django.urls import reverse

        owner = get_user_model().objects.first()
        client = Client()
        assert owner is not None
        client.force_login(owner)
        small = {page: opened(client, reverse(page)) for page in PAGES}
        grow(owner, copies)
        print(f"{'page':14}{'ms':>8}{'then':>8}{'ratio':>7}{'queries':>9}{'then':>6}{'kB':>8}{'then':>8}")
        for page in PAGES:
            (a, q, b), (c, r, d) = small[page], opened(client, reverse(page))
            print(f"{page:14}{1e3 * a:8.0f}{1e3 * c:8.0f}{c / a:7.1f}{q:9}{r:6}{b / 1e3:8.0f}{d / 1e3:8.0f}")


if __name__ == "__main__":
    main()
