"""Every address there is: whole for its owner, missing for strangers, closed to who has not signed in."""

import re

import pytest
from addresses import PATTERNS, POSTED
from django.template import engines
from django.urls import reverse

from vinter.web.finish.models import Export, Finish
from vinter.web.rehearse.models import Rehearsal
from vinter.web.sites.models import Reading, ScoutPicture, StrayLight
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.watch import note_alive

pytestmark = pytest.mark.django_db
OPEN = {"sign-in", "sign-up", "enter-demo", "card-open", "health"}  # without signing in
JUNE = 1812588300
QUERIES = {
    "archive-part": {"id": "0a1b2c3d"},
    "season-minute": {"t": JUNE},
    "go-to-night": {"day": "2027-06-09"},
    "station": {"day": "2027-06-09"},
    "shot-new": {"t": JUNE},
    "forecast-panel": {"start": JUNE, "end": JUNE + 3600},
    "map-lines": {"box": "36,-10,39,-7"},
    "map-towns": {"box": "36,-10,39,-7"},
    "map-glow": {"box": "37,-9,38,-8"},
    "map-point": {"lat": 38, "lon": -8},
    "map-zone": {"tz": "Europe/Lisbon"},
    "stand": {"day": "2027-06-09", "height": 9, "gap": 6, "bearing": 205, "metres": 60, "farthest": 400},
    "stand-gpx": {"day": "2027-06-09", "height": 9, "gap": 6, "bearing": 205, "metres": 60, "farthest": 400},
}
# pictures and files made by work that this test does not do, and what only answers a sender
LATER = set(
    """
    scout-picture trace rehearse-picture rehearse-loupe film download download-small
    card-open upload archive-file
    """.split()
)


@pytest.fixture
def world(nerea, shot, mill, small_stack):
    """One of everything, and the arguments that each address needs."""
    finish = Finish.objects.create(owner=nerea, stack=small_stack, recipe={}, version="1")
    export = Export.objects.create(owner=nerea, finish=finish, kind="jpg", recipe={})
    go = Rehearsal.objects.create(owner=nerea, exercise="thirty")
    picture = ScoutPicture.objects.create(site=mill, stored="x.jpg", width=10, height=10)
    frame = small_stack.take.frame_set.first()
    lamp, reading = mill.straylight_set.first(), mill.reading_set.first()
    pks = dict.fromkeys(("shots", "field"), shot.pk) | {"known": reading.pk, "pictures": picture.pk}
    pks |= {"gear": shot.phone_id, "sites": mill.pk, "takes": small_stack.take_id, "frames": frame.pk}
    pks |= {"stacks": small_stack.pk, "finish": finish.pk, "exports": export.pk, "rehearse": go.pk}
    assert lamp and isinstance(reading, Reading) and isinstance(lamp, StrayLight)
    return pks


def arguments(name, pks):
    """What an address is reversed with: the row its first words name, and example values."""
    route = str(PATTERNS[name].pattern)
    out = {}
    for kind, key in re.findall(r"<(\w+):(\w+)>", route):
        if kind == "int" and key == "pk":
            words = route.split("<", maxsplit=1)[0].strip("/").split("/")
            out[key] = pks.get(words[-1], pks.get(words[0], 1))
        elif kind == "int":
            out[key] = 2027
        else:
            usual = {"day": "2027-06-09", "size": "small", "which": "tiff", "name": "main", "ticket": "x"}
            usual |= {"key": "night"}
            out[key] = usual.get(
                key, {"measured": "darks", "site-known-delete": "reading"}.get(name, "thirty")
            )
    return out


NAMES = sorted(PATTERNS)


def test_the_list_of_addresses_that_only_take_is_whole(desk, world):
    for name in sorted(POSTED):
        answer = desk.get(reverse(name, kwargs=arguments(name, world)))
        assert answer.status_code == 405, name


@pytest.mark.parametrize("name", [n for n in NAMES if n not in OPEN])
def test_who_has_not_signed_in_sees_nothing(client, name):
    made_up = dict.fromkeys(
        ("gear", "sites", "shots", "field", "takes", "frames", "stacks", "finish", "exports", "rehearse"), 1
    )
    address = reverse(name, kwargs=arguments(name, made_up))
    for answer in (client.get(address), client.post(address)):
        assert answer.status_code == 302 and answer.url.startswith(reverse("sign-in")), name


def test_what_is_someone_elses_does_not_exist(client, stranger, world):
    client.force_login(stranger)
    seen = []
    for name in NAMES:
        if "<int:pk>" not in str(PATTERNS[name].pattern) or name in OPEN:
            continue
        address = reverse(name, kwargs=arguments(name, world))
        for answer in (client.get(address, QUERIES.get(name)), client.post(address, QUERIES.get(name))):
            if answer.status_code not in (404, 405):
                seen.append((name, answer.status_code))
    assert seen == []
    assert Take.objects.count() == Stack.objects.count() == Finish.objects.count() == 1
    assert Frame.objects.filter(decision="", frame_type="sky").count() == 5


class Missing(str):
    """What a template shows for a name that its view did not give."""

    def __contains__(self, _):
        return True

    def __mod__(self, name):
        return f"[no {name}]"


@pytest.fixture
def strict():
    """Templates that show names they were not given, instead of nothing."""
    engine = engines["django"].engine
    before, engine.string_if_invalid = engine.string_if_invalid, Missing("%s")
    yield
    engine.string_if_invalid = before


@pytest.mark.long("opens every page that there is")
def test_every_page_of_an_owner_opens_and_was_given_all_it_names(desk, world, strict, settings):
    faults, opened = [], 0
    note_alive()  # as a worker does, whom a watcher asks for
    for name in NAMES:
        if name in POSTED | LATER | {"sign-in", "sign-up", "job"}:
            continue
        address = reverse(name, kwargs=arguments(name, world))
        answer = desk.get(address, QUERIES.get(name))
        if answer.status_code not in (200, 302):
            faults.append((name, answer.status_code))
            continue
        opened += 1
        if "text/html" in answer.get("Content-Type", "") and not answer.streaming:
            faults += [(name, found) for found in re.findall(r"\[no [\w.]+\]", answer.content.decode())]
            faults += [(name, words) for words in _unshaped(answer.content.decode())]
    assert sorted(set(faults)) == [] and opened > 55


def _unshaped(text):
    """What a reader who hears a page would miss: its heading, its main part, words in heads of tables."""
    if "<html" not in text:
        return []  # a part of a page
    wanted = {
        "no heading": "<h1",
        "no main part": "<main",
        "no language": '<html lang="en"',
        "no title": "<title",
    }
    missing = [words for words, mark in wanted.items() if mark not in text]
    return missing + (["an empty head of a column"] if re.search(r"<th[^>]*>\s*</th>", text) else [])


def test_the_lists_of_a_stranger_hold_nothing_of_hers(client, stranger, world):
    client.force_login(stranger)
    for name in ("shots", "takes", "stacks", "finishes", "ledger", "cards", "rehearse", "sites"):
        text = client.get(reverse(name)).content.decode()
        assert "Tide mill" not in text and "Marlet 7" not in text, name


SHOWN = re.compile(r"<(script|style|textarea|pre|code)\b.*?</\1\s*>|<!--.*?-->|<[^>]*?>", re.S)
SPOKEN = re.compile(r'\s(?:title|aria-label)="([^"]*)"')
METRIC = re.compile(r"(?<![\w.])\d+(?:\.\d+)?[ \u00a0](?:km|cm|m/s|m|°C)(?![\w²³/·^])")
CLOCK_24 = re.compile(r"(?<![\d:.+−-])(?:[01]\d|2[0-3]):[0-5]\d(?![\d:])(?! [ap]m)")


def figures_of(html):
    """Clocks of 24 hours and metric lengths in what a page shows and says."""
    texts = [*SPOKEN.findall(html), *SHOWN.sub("\n", html).split("\n")]
    found = [t.strip() for t in texts if METRIC.search(t) or CLOCK_24.search(t)]
    return [t for t in found if "UTC" not in t and not t.startswith("24 hours (")]


@pytest.mark.parametrize("name", NAMES)
def test_every_page_writes_figures_as_one_likes(name, desk, world):
    """Who reads 12 hours and miles finds no other clock and no other length on any page."""
    if name in LATER or name in OPEN or name in POSTED:
        return
    desk.post(reverse("figures"), {"clock": "12", "units": "imperial", "language": "en-gb"})
    answer = desk.get(reverse(name, kwargs=arguments(name, world)), QUERIES.get(name, {}))
    if answer.get("Content-Type", "").startswith("text/html") and not answer.streaming:
        found = figures_of(answer.content.decode())
        assert not found, "\n".join(found)
