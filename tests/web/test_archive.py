"""Everything a person owns out into open formats and in again on another machine: the same, or nothing."""

import json
import zipfile
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
import tifffile
from desk import said, upload
from django.urls import reverse
from files import changed

from vinter.cli import main
from vinter.core.errors import BadInput
from vinter.web.archive.models import Archive
from vinter.web.archive.reading import read_archive
from vinter.web.archive.tasks import bring_in, make
from vinter.web.archive.writing import row_data, write_archive
from vinter.web.field.models import PackMark
from vinter.web.finish.models import Export, Finish, Look
from vinter.web.finish.tasks import export_finish
from vinter.web.gear.models import Phone
from vinter.web.jobs.models import Job
from vinter.web.nights.models import Preferences
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, Site, StrayLight
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

SAME = {"id", "site", "phone", "shot", "take", "stack", "finish", "stored", "frames", "owner", "changed"}


@pytest.fixture
def full(desk, nerea, mill, shot, small_stack, tools):
    """The demo photographer with one of everything that an archive holds."""
    desk.post(reverse("finish-new", args=[small_stack.pk]))
    finish = Finish.objects.get()
    desk.post(reverse("finish-keep-look", args=[finish.pk]), {"name": "Mine"})
    export = Export.objects.create(owner=nerea, finish=finish, kind="jpg", recipe=finish.recipe)
    export_finish(export.pk, tools)
    Preferences.objects.update_or_create(owner=nerea, defaults={"drive_limit": 70})
    PackMark.objects.create(shot=shot, key="own:rope", text="rope", packed=True)
    Shot.objects.filter(pk=shot.pk).update(lesson="=start earlier")
    return nerea


@pytest.fixture
def archive(full, tmp_path):
    path = tmp_path / "nerea.zip"
    write_archive(full, path)
    return path


_MADE = {}


@pytest.fixture
def any_archive(request, db, tmp_path):
    """An archive alone, made once for all tests that need no more."""
    path = tmp_path / "any.zip"
    if "data" not in _MADE:
        _MADE["data"] = request.getfixturevalue("archive").read_bytes()
    path.write_bytes(_MADE["data"])
    return path


def rows_of(user):
    """All that a person owns, as data that do not depend on which numbers rows have."""
    models = {
        Site: Site.objects.filter(owner=user),
        Reading: Reading.objects.filter(site__owner=user),
        StrayLight: StrayLight.objects.filter(site__owner=user),
        Phone: Phone.objects.filter(owner=user),
        Preferences: Preferences.objects.filter(owner=user),
        Shot: Shot.objects.filter(owner=user),
        PackMark: PackMark.objects.filter(shot__owner=user),
        Take: Take.objects.filter(owner=user),
        Frame: Frame.objects.filter(take__owner=user),
        Stack: Stack.objects.filter(owner=user),
        Finish: Finish.objects.filter(owner=user),
        Look: Look.objects.filter(owner=user),
        Export: Export.objects.filter(owner=user),
    }
    return {
        m.__name__: sorted(
            json.dumps({k: v for k, v in row_data(r).items() if k not in SAME}, default=str, sort_keys=True)
            for r in rows
        )
        for m, rows in models.items()
    }


@pytest.mark.django_db
def test_all_of_it_comes_back_the_same_in_another_account(client, full, archive, stranger):
    counts = read_archive(archive, stranger)
    assert counts["frames"] == 5 and counts["sites"] >= 3 and counts["exports"] == 1
    before, after = rows_of(full), rows_of(stranger)
    for name, rows in before.items():
        assert after[name] == rows, name
    client.force_login(full)
    ledger, page = said(client.get(reverse("ledger-csv"))), said(client.get(reverse("ledger-json")))
    client.force_login(stranger)
    assert (
        said(client.get(reverse("ledger-csv"))) == ledger and said(client.get(reverse("ledger-json"))) == page
    )
    assert "'=start earlier" in ledger
    one, two = Stack.objects.get(owner=full), Stack.objects.get(owner=stranger)
    assert np.array_equal(tifffile.imread(one.picture), tifffile.imread(two.picture))
    assert set(two.frames) == set(two.take.frame_set.values_list("pk", flat=True))
    assert [f.path.read_bytes() for f in one.take.frame_set.all()] == [
        f.path.read_bytes() for f in two.take.frame_set.all()
    ]
    export = Export.objects.get(owner=stranger)
    assert export.ready and export.path.read_bytes() == Export.objects.get(owner=full).path.read_bytes()
    finish = Finish.objects.get(owner=stranger)
    for address in (
        reverse("take", args=[two.take_id]),
        reverse("stack", args=[two.pk]),
        reverse("finish", args=[finish.pk]),
        reverse("shot", args=[two.take.shot_id]),
        reverse("ledger"),
        reverse("preview", args=[two.frames[0], "small"]),
    ):
        assert client.get(address).status_code == 200, address
    drawn = client.post(
        reverse("draw", args=[finish.pk]), json.dumps(finish.recipe), content_type="application/json"
    )
    assert drawn.status_code == 200 and drawn["Content-Type"] == "image/jpeg"


@pytest.mark.django_db
def test_it_is_in_open_formats_that_other_readers_open(full, archive):
    with zipfile.ZipFile(archive) as z:
        assert z.testzip() is None
        places = json.loads(z.read("sites.geojson"))
        mill = next(f for f in places["features"] if f["properties"]["name"] == "Tide mill")
        assert mill["geometry"] == {"type": "Point", "coordinates": [-8.772, 37.702, 6.0]}
        stack = json.loads(z.read("stacks.json"))[0]
        picture = tifffile.imread(BytesIO(z.read(f"stacks/{stack['id']}/stack.tif")))
        assert picture.dtype == np.float32 and picture.shape == (600, 800, 3)
        frames = json.loads(z.read("frames.json"))
        assert f"frames/{frames[0]['id']}/original.dng" in z.namelist()
        assert all(json.loads(z.read(n)) is not None for n in z.namelist() if n.endswith(".json"))


@pytest.mark.django_db
def test_without_the_originals_it_is_small_and_still_comes_back(full, tmp_path, stranger):
    path = tmp_path / "small.zip"
    write_archive(full, path, originals=False)
    with zipfile.ZipFile(path) as z:
        assert not [n for n in z.namelist() if "original" in n] and [n for n in z.namelist() if "look" in n]
    read_archive(path, stranger)
    frame = Frame.objects.filter(take__owner=stranger).first()
    assert not frame.path.exists() and frame.measure["stars"] > 10


@pytest.mark.django_db
def test_twice_into_one_account_doubles_nothing_that_is_one(full, archive, stranger):
    read_archive(archive, stranger)
    read_archive(archive, stranger)
    assert Phone.objects.filter(owner=stranger).count() == Phone.objects.filter(owner=full).count()
    assert Site.objects.filter(owner=stranger, home=True).count() == 1
    assert Preferences.objects.filter(owner=stranger).count() == 1
    assert Take.objects.filter(owner=stranger).count() == 2 * Take.objects.filter(owner=full).count()


def row_with(**values):
    def change(data):
        rows = json.loads(data)
        (rows["features"][0]["properties"] if isinstance(rows, dict) else rows[0]).update(values)
        return json.dumps(rows)

    return change


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("members", "words"),
    [
        ({"archive_json": lambda d: b"{}"}, "not an archive"),
        ({"archive_json": lambda d: d.replace(b'"version": 1', b'"version": 9')}, "version 9"),
        ({"shots_json": lambda d: b"[{"}, "shots.json cannot be read"),
        ({"shots_json": lambda d: b"[" * 100_000}, "shots.json cannot be read"),
        ({"shots_json": lambda d: b'{"a": 1}'}, "shots.json is no list"),
        ({"shots_json": row_with(night="2027-99-99")}, "shots.json, row"),
        ({"shots_json": row_with(site=999)}, "site 999 is not in the archive"),
        ({"shots_json": row_with(plan={"version": 1})}, "shots.json, row"),
        ({"shots_json": row_with(mode="dance")}, "shots.json, row"),
        ({"shots_json": row_with(title="x" * 500)}, "shots.json, row"),
        ({"sites_geojson": row_with(tz="Mars/Olympus")}, "sites.geojson, row"),
        ({"sites_geojson": lambda d: d.replace(b"-8.772", b"NaN")}, "NaN is no number"),
        ({"sites_geojson": lambda d: b'{"features": [{"geometry": 7}]}'}, "no collection of points"),
        ({"frames_json": row_with(stored="../../evil.sh")}, "not read"),
        ({"frames_json": row_with(measure={"stars": "many"})}, "frames.json, row"),
        ({"stacks_json": row_with(report={"version": 1, "frames": 3})}, "stacks.json, row"),
        ({"finishes_json": row_with(recipe={"version": 99})}, "finishes.json, row"),
        ({"exports_json": row_with(kind="exe")}, "exports.json, row"),
        ({"phones_json": row_with(lenses={"main": {"f35": "wide"}})}, "phones.json, row"),
    ],
    ids=range(19),
)
def test_what_is_wrong_is_named_and_nothing_is_changed(
    any_archive, tmp_path, stranger, settings, members, words
):
    bad = changed(any_archive, tmp_path / "bad.zip", **members)
    before = set(Path(settings.MEDIA_ROOT).rglob("*"))
    with pytest.raises(BadInput, match=words) as caught:
        read_archive(bad, stranger)
    assert "bad.zip" in str(caught.value)
    assert (
        not Site.objects.filter(owner=stranger).exists() and not Phone.objects.filter(owner=stranger).exists()
    )
    assert [p for p in set(Path(settings.MEDIA_ROOT).rglob("*")) - before if p.is_file()] == []


@pytest.mark.django_db
def test_a_damaged_file_changes_nothing(any_archive, tmp_path, stranger):
    data = bytearray(any_archive.read_bytes())
    with zipfile.ZipFile(any_archive) as z:
        at = next(i.header_offset for i in z.infolist() if i.filename.endswith("stack.tif")) + 5000
    data[at] ^= 255
    (tmp_path / "torn.zip").write_bytes(data)
    with pytest.raises(BadInput, match=r"torn\.zip: damaged.*nothing was changed"):
        read_archive(tmp_path / "torn.zip", stranger)
    assert not Site.objects.filter(owner=stranger).exists()
    (tmp_path / "no.zip").write_bytes(b"PK nothing")
    with pytest.raises(BadInput, match=r"no\.zip: not an archive"):
        read_archive(tmp_path / "no.zip", stranger)


@pytest.mark.django_db
def test_in_the_browser_it_is_made_fetched_and_brought_in(client, desk, full, stranger, tools):
    answer = desk.post(reverse("archive"), {"originals": "1"})
    assert answer["Location"] == reverse("archive") and Job.objects.get().kind == "archive"
    one = Archive.objects.get()
    make(one.pk, tools)
    Job.objects.update(state=Job.DONE)
    assert "without the frames" not in (page := said(desk.get(reverse("archive")))) and "Archive of" in page
    fetched = desk.get(reverse("archive-file", args=[one.pk]))
    data = b"".join(fetched.streaming_content)
    assert "vinter-nerea-" in fetched["Content-Disposition"] and len(data) == one.path.stat().st_size
    client.force_login(stranger)
    assert client.get(reverse("archive-file", args=[one.pk])).status_code == 404
    wrong = client.post(
        reverse("archive-import"), {"file": upload("a.zip", b"PK")}, headers={"Accept": "text/html"}
    )
    assert wrong.status_code == 400 and not Archive.objects.filter(owner=stranger).exists()
    client.post(reverse("archive-import"), {"file": upload("a.zip", data)})
    waiting = Archive.objects.get(owner=stranger)
    bring_in(waiting.pk, tools)
    bring_in(waiting.pk, tools)  # a second attempt brings nothing twice
    Job.objects.update(state=Job.DONE)
    assert "Brought in on" in said(client.get(reverse("archive"))) and not waiting.path.exists()
    assert Take.objects.filter(owner=stranger).count() == Take.objects.filter(owner=full).count()


@pytest.mark.django_db(transaction=True)
def test_from_the_command_line(full, tmp_path, capsys, monkeypatch):
    monkeypatch.setattr("vinter.web.serve.prepare", lambda: None)
    out = tmp_path / "all.zip"
    assert main(["archive", "nerea", "-o", str(out)]) == 0 and "files" in capsys.readouterr().out
    assert main(["import-archive", str(out), "--to", "dara"]) == 0
    told = capsys.readouterr().out
    assert "takes: 1" in told and "'dara' is new" in told
    assert main(["archive", "nobody", "-o", str(out)]) == 2 and "nobody" in capsys.readouterr().err
    assert main(["import-archive", str(tmp_path / "gone.zip")]) == 2 and "gone.zip" in capsys.readouterr().err
