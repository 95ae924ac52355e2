"""What `vinter check` says of a home, what a watcher is answered, and backups on a schedule."""

import os
import shutil
import sys
import time
import zipfile
from pathlib import Path

import pytest
from django.urls import reverse

from vinter.cli import main
from vinter.web import keeping, watch
from vinter.web.jobs.models import Job, enqueue

ORIGIN = "https://sky.example.org"


@pytest.fixture
def home(db, settings, tmp_path):
    settings.HOME = tmp_path
    settings.MEDIA_ROOT = tmp_path / "media"
    settings.MEDIA_ROOT.mkdir()
    settings.ALLOWED_HOSTS = ["localhost"]
    (settings.MEDIA_ROOT / "frame.dng").write_bytes(b"light")
    (tmp_path / keeping.KEY).write_text("key")
    (tmp_path / keeping.KEY).chmod(0o600)
    return tmp_path


def wrong():
    return {one.name: one.words for one in watch.findings() if not one.right}


def aged(path, days):
    os.utime(path, (time.time() - 86_400 * days,) * 2)


def test_a_home_that_is_looked_after_has_nothing_wrong(home, client):
    watch.note_alive()
    (home / keeping.LAST).touch()
    assert wrong() == {}
    answer = client.get(reverse("health"), headers={"host": "localhost"})  # no account is needed
    assert (answer.status_code, answer.json()) == (200, {"ok": True})


def test_each_thing_that_is_not_so_is_named(home, settings, nerea, client, monkeypatch):
    assert set(wrong()) == {"worker", "backup"} and "never" in wrong()["worker"]
    assert client.get(reverse("health"), headers={"host": "localhost"}).status_code == 503
    watch.note_alive()
    aged(home / watch.ALIVE, 0.1)
    enqueue(nerea, "stack", 1)
    assert Job.objects.count() == 1 and "silent for 144 min; 1 job waiting" in wrong()["worker"]
    (home / keeping.LAST).touch()
    aged(home / keeping.LAST, 12)
    assert wrong()["backup"] == "the last was made 12.0 days ago"
    (home / keeping.KEY).chmod(0o644)
    assert "chmod 600" in wrong()["key"]
    settings.ALLOWED_HOSTS = ["localhost", "sky.example.org"]
    assert "not in VINTER_ORIGINS" in wrong()["addresses"]
    settings.CSRF_TRUSTED_ORIGINS = [ORIGIN]
    assert "addresses" not in wrong() and ORIGIN in wrong()["https"]
    settings.HTTPS = True
    assert "https" not in wrong()
    settings.ALLOWED_HOSTS = ["*"]
    assert "addresses" in wrong()
    monkeypatch.setattr(shutil, "disk_usage", lambda path: shutil._ntuple_diskusage(10**9, 10**9, 10**8))
    assert "make room" in wrong()["space"]
    (home / watch.ALIVE).touch()
    os.utime(home / watch.ALIVE, (time.time() + 3600,) * 2)
    assert "60 min behind" in wrong()["clock"]


def test_from_the_shell_the_exit_says_it(home, capsys, monkeypatch):
    with pytest.raises(SystemExit) as ended:
        main(["check"])
    assert ended.value.code == 1
    lines = capsys.readouterr().out.splitlines()
    assert len(lines) == len(watch.findings()) and any(line.startswith("WRONG worker: ") for line in lines)
    watch.note_alive()
    (home / keeping.LAST).touch()
    monkeypatch.setattr(sys, "argv", ["vinter"])
    assert main(["check"]) == 0
    assert all(line.startswith("ok ") for line in capsys.readouterr().out.splitlines())


@pytest.mark.django_db(transaction=True)
def test_backups_come_by_themselves_and_the_last_ones_stay(home, settings, tmp_path_factory):
    assert keeping.back_up_when_due() is None  # nobody asked for any
    folder = tmp_path_factory.mktemp("backups")
    settings.BACKUP_DIR, settings.BACKUP_DAYS, settings.BACKUPS_KEPT = str(folder), 1, 2
    mine = folder / "vinter-holiday.zip"
    mine.write_bytes(b"not one of the schedule")
    for k in range(4):
        keeping.back_up_when_due().join()
        newest = max(folder.glob("vinter-2*.zip"))
        assert zipfile.ZipFile(newest).read("media/frame.dng") == b"light"
        assert keeping.back_up_when_due() is None  # not due before a day has gone
        for path in folder.glob("vinter-2*.zip"):
            aged(path, 2)
        # a name of its own: the clock of the test stands nearly still
        newest.rename(folder / f"vinter-2025-06-0{k + 1}-000000.zip")
        aged(folder / f"vinter-2025-06-0{k + 1}-000000.zip", 2)
    assert len(list(folder.glob("vinter-2*.zip"))) == 2 and mine.exists()
    assert keeping.last_backup() == pytest.approx(time.time(), abs=60)


def test_a_folder_that_is_gone_is_said_in_the_log_and_by_the_check(home, settings, caplog):
    settings.BACKUP_DIR = str(Path(home) / "nowhere")
    keeping.back_up_when_due().join()
    assert "could not be made" in caplog.text and "no such folder" in caplog.text
    (home / keeping.LAST).touch()
    assert "is no folder" in wrong()["backup"]
