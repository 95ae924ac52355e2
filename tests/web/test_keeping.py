"""Backup and restore: everything comes along, nothing leads out of the home, a broken one changes nothing."""

import zipfile

import pytest
from django.conf import settings
from django.contrib.auth.models import User

from vinter.core.errors import BadInput
from vinter.web.keeping import DATABASE, KEY, backup, restore
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site

pytestmark = pytest.mark.django_db(transaction=True)


def test_a_home_goes_into_one_file_and_comes_back(nerea, small_stack, tmp_path):
    original = next(small_stack.take.folder.glob("*.dng"))
    before, sites = original.read_bytes(), set(Site.objects.values_list("name", flat=True))
    lesson = "stay until the Moon is down"
    Shot.objects.update(lesson=lesson)
    count, _ = backup(tmp_path / "all.zip")
    names = zipfile.ZipFile(tmp_path / "all.zip").namelist()
    assert count == len(names) and {DATABASE, KEY} <= set(names)
    inside = f"media/{original.relative_to(settings.MEDIA_ROOT)}"
    assert inside in names and not any("/work/" in n for n in names)

    Shot.objects.update(lesson="")
    Site.objects.filter(shot__isnull=True).delete()
    original.unlink()
    User.objects.create_user("late", password="x")
    assert restore(tmp_path / "all.zip") == count
    assert set(Site.objects.values_list("name", flat=True)) == sites
    assert Shot.objects.get().lesson == lesson and original.read_bytes() == before
    assert not User.objects.filter(username="late").exists()  # the database is that of the backup
    assert [p.name for p in tmp_path.iterdir()] == ["all.zip"]


@pytest.mark.parametrize(
    ("names", "words"),
    [
        (["a.txt"], DATABASE),
        ([DATABASE, "../outside.txt"], "outside"),
        ([DATABASE, "/etc/outside"], "outside"),
        ([DATABASE, "media/../../outside"], "outside"),
        ([DATABASE, "static/app.css"], "app.css"),
    ],
)
def test_what_is_no_backup_is_refused_before_anything_changes(nerea, tmp_path, names, words):
    path = tmp_path / "odd.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name in names:
            archive.writestr(name, b"x")
    with pytest.raises(BadInput, match=words):
        restore(path)
    assert User.objects.get().username == "nerea"


def test_files_that_are_none_are_named(nerea, tmp_path):
    (tmp_path / "words.zip").write_text("not a backup")
    for path in (tmp_path / "words.zip", tmp_path / "nowhere.zip"):
        with pytest.raises(BadInput, match=path.name):
            restore(path)
    with pytest.raises(BadInput, match="no such folder"):
        backup(tmp_path / "nowhere" / "a.zip")


def test_a_damaged_backup_restores_nothing(nerea, tmp_path):
    path = tmp_path / "a.zip"
    backup(path)
    data = bytearray(path.read_bytes())
    data[len(data) // 3] ^= 0xFF
    path.write_bytes(bytes(data))
    Site.objects.update(notes="newer")
    with pytest.raises(BadInput, match=r"a\.zip.*nothing was restored"):
        restore(path)
    assert set(Site.objects.values_list("notes", flat=True)) == {"newer"}
