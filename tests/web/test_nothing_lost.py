"""What several do at once, and what odd files say: nothing is lost, nothing stands in the way of the rest."""

import csv
import hashlib
import json
import secrets
import threading
import zipfile
from datetime import date, timedelta
from pathlib import Path

import pytest
from desk import body, said, upload
from django.db import connection
from django.test import Client
from django.urls import reverse
from files import changed, jpeg_at
from PIL import Image

from vinter.cli import main
from vinter.core.errors import BadInput
from vinter.core.frames.measure import stored_measure
from vinter.core.json_input import read_json
from vinter.core.sky.satellites import read_elements
from vinter.web.accounts import people
from vinter.web.accounts.models import Invitation
from vinter.web.archive.reading import about, read_archive
from vinter.web.archive.writing import write_archive
from vinter.web.bin.models import BinEntry, destroy, put_in
from vinter.web.keeping import backup
from vinter.web.ledger.rows import ledger_rows
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.tasks import measure_take

pytestmark = pytest.mark.django_db
PART = 1024


def at_once(count, work):
    """What so many threads get of a function at the same time, each with its own connection; the first fault
    of any is raised."""
    found, faults, start = [None] * count, [], threading.Barrier(count)

    def run(i):
        try:
            start.wait(20)
            found[i] = work(i)
        except Exception as fault:
            faults.append(fault)
        finally:
            connection.close()

    threads = [threading.Thread(target=run, args=(i,)) for i in range(count)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    if faults:
        raise faults[0]
    return found


# ---- the ledger


@pytest.fixture
def unplanned(nerea, mill):
    """Four takes of one night at one site that nobody planned."""
    return [
        Take.objects.create(owner=nerea, kind=Take.UPLOADED, title=f"Walk {i}", own_site=mill)
        for i in range(4)
    ]


def test_every_take_has_a_row_in_ledger_and_archive(desk, nerea, unplanned, tmp_path, capsys, monkeypatch):
    titles = [f"Walk {i}" for i in range(4)]
    table = list(csv.DictReader(said(desk.get(reverse("ledger-csv"))).lstrip("\ufeff").splitlines()))
    assert sorted(row["title"] for row in table if row["title"].startswith("Walk")) == titles
    rows = json.loads(said(desk.get(reverse("ledger-json"))))
    assert sorted(r["title"] for r in rows if r["title"].startswith("Walk")) == titles
    monkeypatch.setattr("vinter.web.serve.prepare", lambda: None)
    assert main(["archive", "nerea", "-o", str(tmp_path / "a.zip")]) == 0
    with zipfile.ZipFile(tmp_path / "a.zip") as z:
        assert sorted(r["title"] for r in json.loads(z.read("ledger.json")) if "Walk" in r["title"]) == titles


def test_two_takes_of_a_shot_are_two_rows(nerea, shot):
    for i in range(2):
        Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title=f"Go {i}")
    assert [r["title"] for r in ledger_rows(nerea)].count(shot.title) == 2


# ---- the archive


def test_an_archive_holds_the_site_in_the_bin_that_a_take_names(nerea, unplanned, mill, stranger, tmp_path):
    put_in(nerea, "Tide mill", [mill])
    write_archive(nerea, tmp_path / "a.zip")
    read_archive(tmp_path / "a.zip", stranger)
    takes = Take.objects.filter(owner=stranger, shot=None)
    assert {t.own_site.name for t in takes} == {"Tide mill"} and takes.count() == 4
    assert not Site.objects.filter(owner=stranger, name="Tide mill").exists()  # it is in the bin there too
    assert BinEntry.objects.filter(owner=stranger).count() == 1


def test_what_was_shot_at_a_site_outlives_it(nerea, unplanned, mill):
    """The bin is emptied: pictures that nobody planned only lose their place."""
    destroy(put_in(nerea, "Tide mill", [mill]))
    assert Take.objects.filter(owner=nerea, shot=None, own_site=None).count() == 4


def test_lists_come_back_in_their_order_and_joins_with_their_parts(nerea, shot, stranger, tmp_path):
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="One")
    Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="Two")
    parts = [Stack.objects.create(owner=nerea, take=take, frames=[]) for _ in range(2)]
    Stack.objects.create(owner=nerea, take=take, kind=Stack.JOIN, parts=[p.pk for p in parts], frames=[])
    write_archive(nerea, tmp_path / "a.zip")

    def backwards(data):
        return json.dumps(json.loads(data)[::-1])

    old = changed(tmp_path / "a.zip", tmp_path / "old.zip", stacks_json=backwards, takes_json=backwards)
    for source, owner in ((tmp_path / "a.zip", stranger), (old, people.add("later", "a long password"))):
        read_archive(source, owner)
        assert [t.title for t in Take.objects.filter(owner=owner)] == [
            t.title for t in Take.objects.filter(owner=nerea)
        ]
        joined, *single = Stack.objects.filter(owner=owner)
        assert joined.parts == sorted(s.pk for s in single) and len(joined.parts) == 2
        write_archive(owner, tmp_path / "again.zip")
        with zipfile.ZipFile(tmp_path / "again.zip") as z:
            rows = json.loads(z.read("stacks.json"))
        assert [len(r["parts"]) for r in rows] == [0, 0, 2]


def test_what_says_whose_an_archive_is_has_a_size(tmp_path):
    """A hundred kilobytes of ZIP that would be a gigabyte of lists."""
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("archive.json", "[[]" + ",[]" * 5_000_000 + "]")
    with pytest.raises(BadInput, match=r"a\.zip: archive\.json is larger than"):
        about(path)


@pytest.mark.parametrize(
    ("field", "value"), [("moment", 1e308), ("night", "9999-12-31"), ("night", "0001-01-01")]
)
def test_a_shot_of_no_time_does_not_come_in(nerea, shot, stranger, tmp_path, field, value):
    write_archive(nerea, tmp_path / "a.zip")

    def change(data):
        rows = json.loads(data)
        rows[0][field] = value
        return json.dumps(rows)

    with pytest.raises(BadInput, match=r"shots\.json, row"):
        read_archive(changed(tmp_path / "a.zip", tmp_path / "b.zip", shots_json=change), stranger)


def test_an_archive_with_the_names_of_older_versions_comes_in(nerea, shot, stranger, tmp_path):
    """Two fields of a shot and one of a take were called otherwise."""
    Shot.objects.filter(pk=shot.pk).update(manual_settings={"iso": 800}, forecast_chance={"chance": 0.7})
    Take.objects.create(owner=nerea, shot=shot, kind=Take.SIMULATED, simulation_overrides={"cloud": 0.4})
    write_archive(nerea, tmp_path / "a.zip")

    def older(**names):
        return lambda data: json.dumps(
            [{names.get(key, key): value for key, value in row.items()} for row in json.loads(data)]
        )

    old = changed(
        tmp_path / "a.zip",
        tmp_path / "old.zip",
        shots_json=older(manual_settings="own", forecast_chance="said"),
        takes_json=older(simulation_overrides="told"),
    )
    read_archive(old, stranger)
    came = Shot.objects.get(owner=stranger)
    assert came.manual_settings["iso"] == 800 and came.forecast_chance == {"chance": 0.7}
    assert Take.objects.get(owner=stranger).simulation_overrides == {"cloud": 0.4}


# ---- uploads


def posted(client, take, key, data, offset, size, digest=""):
    query = f"id={key}&name=a.jpg&size={size}&offset={offset}&digest={digest}"
    return client.post(
        f"{reverse('upload', args=[take.pk])}?{query}",
        data,
        content_type="application/octet-stream",
    )


def signed_in(user):
    client = Client()
    client.force_login(user)
    return client


@pytest.mark.django_db(transaction=True)
def test_two_windows_that_send_one_file_store_what_was_sent(nerea, tmp_path):
    """Many rounds of two windows, each sending every part: the stored file is the sent one, once."""
    jpeg_at(tmp_path / "a.jpg")
    data = (tmp_path / "a.jpg").read_bytes() + secrets.token_bytes(20 * PART)
    for _ in range(4):
        take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Two windows")
        clients = [signed_in(nerea) for _ in range(2)]

        def send(i, take=take, clients=clients):
            offset = 0
            for _ in range(400):
                chunk = data[offset : offset + PART]
                answer = posted(clients[i], take, "ab" * 8, chunk, offset, len(data)).json()
                if "duplicate" in answer:
                    return answer["duplicate"]
                offset = answer["offset"]
            raise AssertionError("it never ended")

        at_once(2, send)
        (frame,) = Frame.objects.filter(take=take)
        assert frame.path.read_bytes() == data and frame.size == len(data)


def test_what_did_not_arrive_as_it_was_sent_is_not_kept(desk, nerea, tmp_path):
    jpeg_at(tmp_path / "a.jpg")
    data = (tmp_path / "a.jpg").read_bytes()
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Torn")
    torn = data[:-1] + bytes([data[-1] ^ 255])
    answer = posted(desk, take, "cd" * 8, torn, 0, len(data), hashlib.sha256(data).hexdigest())
    assert answer.status_code == 409 and "not arrive as it was sent" in answer.json()["error"]
    assert not take.frame_set.exists() and not list((take.folder / "partial").iterdir())
    right = posted(desk, take, "cd" * 8, data, 0, len(data), hashlib.sha256(data).hexdigest())
    assert right.json() == {"name": "a.jpg", "duplicate": False}


# ---- people


@pytest.mark.django_db(transaction=True)
def test_an_invitation_makes_one_account_however_many_ask(monkeypatch):
    owner = people.add("owner", "a long password")
    code = Invitation.objects.create(owner=owner).code
    together = threading.Barrier(4)
    monkeypatch.setattr(people, "validate_password", lambda *_: together.wait(20))
    answers = at_once(4, lambda i: _signed_up(f"guest{i}", code))
    assert sorted(answers) == [302, 403, 403, 403]
    assert people.User.objects.filter(username__startswith="guest").count() == 1


@pytest.mark.django_db(transaction=True)
def test_an_empty_home_gets_one_owner_however_many_ask(monkeypatch):
    together = threading.Barrier(3)
    monkeypatch.setattr(people, "validate_password", lambda *_: together.wait(20))
    answers = at_once(3, lambda i: _signed_up(f"first{i}"))
    assert sorted(answers) == [302, 403, 403]
    assert people.User.objects.filter(is_staff=True).count() == people.User.objects.count() == 1


def _signed_up(name, code=""):
    form = {"username": name, "password1": "a long password 7", "password2": "a long password 7"}
    return Client().post(reverse("sign-up"), {**form, "code": code}).status_code


def test_passwords_are_hashed_before_the_database_is_held(monkeypatch):
    held = []
    monkeypatch.setattr(
        people.User, "set_password", lambda self, raw: held.append(len(connection.savepoint_ids))
    )
    before = len(connection.savepoint_ids)
    people.add("owner", "a long password")
    assert held == [before]


def test_the_only_owner_hands_on_before_leaving(client, capsys, monkeypatch):
    owner, guest = people.add("owner", "a long password"), people.add("guest", "another password")
    client.force_login(owner)
    answer = client.post(
        reverse("account-end"), {"password": "a long password"}, headers={"Accept": "text/html"}
    )
    assert answer.status_code == 400 and "make one of them an owner first" in said(answer)
    assert client.get(reverse("account")).status_code == 200  # still signed in, nothing deleted
    client.post(reverse("hand-on"), {"name": "guest"})
    guest.refresh_from_db()
    assert guest.is_staff
    assert client.post(reverse("account-end"), {"password": "a long password"}).status_code == 302
    assert list(people.User.objects.values_list("username", flat=True)) == ["guest"]
    client.force_login(guest)
    assert client.post(reverse("account-end"), {"password": "another password"}).status_code == 302


def test_a_home_without_an_owner_is_given_one_from_the_shell(capsys, monkeypatch):
    people.add("owner", "a long password")
    guest = people.add("guest", "another password")
    people.User.objects.filter(username="owner").delete()  # as an older version allowed
    monkeypatch.setattr("vinter.web.serve.prepare", lambda: None)
    assert main(["account", "owner", "guest"]) == 0 and "owns this Vinter" in capsys.readouterr().out
    guest.refresh_from_db()
    assert guest.is_staff


def test_who_owns_nothing_makes_nobody_an_owner(client, stranger):
    people.add("guest", "another password")
    client.force_login(stranger)
    assert client.post(reverse("hand-on"), {"name": "stranger"}).status_code == 403


# ---- backups


@pytest.mark.django_db(transaction=True)
def test_a_backup_while_takes_are_deleted_is_whole(nerea, settings, tmp_path, monkeypatch):
    """Every other file vanishes between being listed and being read."""
    folder = Path(settings.MEDIA_ROOT) / str(nerea.pk) / "takes" / "1"
    folder.mkdir(parents=True)
    for i in range(10):
        (folder / f"{i}.dng").write_bytes(b"x" * 100)
    real = Path.open

    def deleting(self, *arguments, **options):
        if self.suffix == ".dng" and int(self.stem) % 2:
            self.unlink()
        return real(self, *arguments, **options)

    monkeypatch.setattr(Path, "open", deleting)
    _, gone = backup(tmp_path / "all.zip")
    assert gone == 5
    with zipfile.ZipFile(tmp_path / "all.zip") as z:
        assert z.testzip() is None
        assert sorted(Path(n).stem for n in z.namelist() if n.endswith(".dng")) == list("02468")


# ---- odd files


@pytest.mark.parametrize("year", ["0001", "9999"])
def test_a_picture_of_no_time_stands_in_nobodys_way(desk, nerea, mill, tools, tmp_path, year):
    jpeg_at(tmp_path / "odd.jpg", (mill.lat, mill.lon), f"{year}:01:01 00:10:00")
    jpeg_at(tmp_path / "good.jpg", (mill.lat, mill.lon), seed=2)
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Odd")
    for name in ("odd.jpg", "good.jpg"):
        desk.post(reverse("upload", args=[take.pk]), {"file": upload(name, (tmp_path / name).read_bytes())})
    measure_take(take.pk, tools)
    take = Take.objects.get(pk=take.pk)
    assert take.evening == date(2027, 6, 9)
    assert all(f.measure and not f.error for f in take.frame_set.all())
    for address in (
        reverse("take", args=[take.pk]),
        reverse("takes"),
        reverse("ledger"),
        reverse("ledger-csv"),
    ):
        answer = desk.get(address)
        assert answer.status_code == 200 and body(answer), address


def test_times_stored_by_an_older_version_are_no_times(nerea, mill):
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Old", own_site=mill)
    measure = {"time": -62135596800.0, "stars": 3, "uneven": None}
    Frame.objects.create(take=take, name="a", stored="a.jpg", digest="a", measure=measure)
    assert take.evening - date.today() < timedelta(days=2)


def test_a_tiny_black_picture_is_answered_like_any_other(desk, nerea, tools, tmp_path):
    Image.new("RGB", (70, 70)).save(tmp_path / "black.jpg")
    Image.new("RGB", (20, 12)).save(tmp_path / "dot.jpg")
    jpeg_at(tmp_path / "good.jpg")
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Tiny")
    for name in ("black.jpg", "dot.jpg", "good.jpg"):
        desk.post(reverse("upload", args=[take.pk]), {"file": upload(name, (tmp_path / name).read_bytes())})
    measure_take(take.pk, tools)
    frames = {f.name: f for f in take.frame_set.all()}
    assert frames["black.jpg"].measure["uneven"] == 0.0
    assert "nothing shone on the sensor" in " ".join(map(str, frames["black.jpg"].reasons))
    assert frames["good.jpg"].measure["stars"] is not None
    assert desk.get(reverse("take", args=[take.pk])).status_code == 200


def test_stored_measures_with_gaps_are_read():
    said = dict.fromkeys(
        ("fwhm_px", "elongation", "trail_px", "background", "noise", "clipped_fraction"), 0.5
    )
    known = {"file": "a", "kind": "picture", "width": 9, "height": 9, "raw": "unknown", "raw_reasons": []}
    gaps = {"iso": None, "exposure_s": None, "time": 1e300, "stars": None, "streaks": 0, "uneven": None}
    found = stored_measure({**said, **known, **gaps, "noise": None})
    assert (found.time, found.uneven, found.stars, found.noise, found.iso) == (None, 0.0, 0, 0, None)


HOURLY = b"time,cloud_low,cloud_mid,cloud_high,humidity,dew_point,wind,temperature\n"
DEEP = b'{"a":' + b"[" * 100_000


@pytest.mark.parametrize("data", [b"[" * 100_000, b"OBJECT_NAME,MEAN_MOTION\n" + b"x" * 131_073])
def test_orbits_that_nest_or_never_end_are_refused(data):
    with pytest.raises(BadInput, match=r"iss\.json"):
        read_elements(data, "iss.json")


def test_json_of_others_is_bounded():
    for text, words in ((DEEP, "nested"), (b" " * 100, "larger"), (b"{", "not JSON")):
        with pytest.raises(BadInput, match=words):
            read_json(text, "a", 90 if text.isspace() else 2**20)


@pytest.mark.parametrize(
    ("page", "field", "name", "data"),
    [
        ("forecast-import", "file", "f.csv", b"time," + b"x" * 131_073 + b"\n1,2\n"),
        (
            "forecast-import",
            "file",
            "f.csv",
            HOURLY + b"x" * 131_073,
        ),
        ("station-import", "file", "f.json", b"[" * 100_000),
        ("sites-import", "file", "f.geojson", DEEP),
        ("phone-add", "file", "f.json", DEEP),
    ],
)
def test_odd_files_get_an_answer(desk, mill, page, field, name, data):
    from django.urls import NoReverseMatch

    try:
        address = reverse(page)
    except NoReverseMatch:
        address = reverse(page, args=[mill.pk])
    answer = desk.post(address, {field: upload(name, data)}, headers={"Accept": "text/html"})
    assert answer.status_code == 400, said(answer)[:500]
    assert name in said(answer)
