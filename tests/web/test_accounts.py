"""Getting in and out: the first account, invitations, doors that close, and everything gone at the end."""

import os
import re
import subprocess
import sys
import threading
from datetime import timedelta
from pathlib import Path

import pytest
from desk import said
from django.conf import settings
from django.contrib.auth.models import User
from django.urls import reverse
from django.utils import timezone

from vinter.core.errors import BadInput
from vinter.web.accounts import people
from vinter.web.accounts.models import INVITATION_DAYS, Invitation, nobody_yet
from vinter.web.gear.models import Phone
from vinter.web.jobs.models import Job, enqueue
from vinter.web.sites.models import Site
from vinter.web.takes.models import Take

pytestmark = pytest.mark.django_db
GOOD = "correct horse battery"


def form(name, password=GOOD, **more):
    return {"username": name, "password1": password, "password2": password, **more}


@pytest.fixture
def owner():
    return people.add("ines", GOOD)


def test_an_empty_home_asks_for_the_owners_account(client):
    assert client.get("/").url.startswith(reverse("sign-in"))
    assert client.get(reverse("sign-in")).url == reverse("sign-up")
    assert "This Vinter is yours." in said(client.get(reverse("sign-up")))
    assert client.post(reverse("sign-up"), form("ines")).url == reverse("home")
    user = User.objects.get()
    assert user.is_staff and not user.is_superuser and user.check_password(GOOD)
    assert client.get(reverse("home")).url == reverse("begin")  # signed in already


def test_the_demos_photographer_is_not_the_owner(client, nerea):
    assert nobody_yet()  # she has no password
    assert client.get(reverse("sign-in")).url == reverse("sign-up")
    client.post(reverse("sign-up"), form("ines"))
    assert User.objects.get(username="ines").is_staff
    assert client.post(reverse("enter-demo")).status_code == 404  # a plain start keeps the demo's door closed


def test_after_the_first_account_the_door_is_closed(client, owner):
    answer = client.get(reverse("sign-up"))
    assert answer.status_code == 403 and "by invitation" in said(answer)
    assert client.post(reverse("sign-up"), form("eve")).status_code == 403 and User.objects.count() == 1
    assert "Make an account" not in said(client.get(reverse("sign-in")))


def test_where_it_is_open_everybody_comes_in_but_owns_nothing(client, owner, settings):
    settings.SIGN_UP = "open"
    assert "Make an account" in said(client.get(reverse("sign-in")))
    client.post(reverse("sign-up"), form("rui"))
    assert not User.objects.get(username="rui").is_staff


def test_an_invitation_opens_the_door_once_and_for_two_weeks(client, owner):
    client.force_login(owner)
    client.post(reverse("invite"))
    one = Invitation.objects.get()
    page = said(client.get(reverse("account")))
    assert f"/sign-up/?code={one.code}" in page
    client.logout()
    assert client.get(reverse("sign-up"), {"code": one.code}).status_code == 200
    assert client.post(reverse("sign-up"), form("rui", code=one.code)).url == reverse("home")
    client.logout()
    assert client.post(reverse("sign-up"), form("eve", code=one.code)).status_code == 403
    late = Invitation.objects.create(owner=owner)
    Invitation.objects.filter(pk=late.pk).update(
        created=timezone.now() - timedelta(days=INVITATION_DAYS, hours=1)
    )
    assert client.get(reverse("sign-up"), {"code": late.code}).status_code == 403
    assert set(User.objects.values_list("username", flat=True)) == {"ines", "rui"}


def test_only_the_owner_invites(client, owner):
    guest = people.add("rui", GOOD)
    client.force_login(guest)
    assert client.post(reverse("invite")).status_code == 403 and not Invitation.objects.exists()
    assert "Invitations" not in said(client.get(reverse("account")))


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (form("ines"), "taken"),
        (form("INES"), "taken"),
        (form("rui", "short"), "too short"),
        (form("rui", "password123"), "too common"),
        (form("rui", "8274619305"), "entirely numeric"),
        (form("photographer", "photographer1"), "too similar"),
        ({**form("rui"), "password2": "another one"}, "match"),
        (form("two words"), "valid username"),
        (form(""), "required"),
    ],
)
def test_names_and_passwords_that_will_not_do(client, owner, settings, given, words):
    settings.SIGN_UP = "open"
    answer = client.post(reverse("sign-up"), given)
    assert answer.status_code == 400 and words in said(answer) and User.objects.count() == 1


def test_wrong_passwords_and_wrong_names_get_the_same_answer_and_then_a_rest(client, owner):
    def tried(name, password="wrong", address="203.0.113.7"):
        given = {"username": name, "password": password}
        return client.post(reverse("sign-in"), given, REMOTE_ADDR=address)

    first, other = said(tried("ines")), said(tried("nobody"))
    assert "Wrong name or password" in first and 'value="ines"' in first  # the name stays
    tokens = r'(csrfmiddlewaretoken" value="|X-CSRFToken": ")\w+'
    assert re.sub(tokens, "", first.replace("ines", "nobody")) == re.sub(tokens, "", other)
    for _ in range(5):
        last = tried("ines")
    assert last.status_code == 429 and "locked for 15 minutes" in said(last)
    assert tried("ines", GOOD).status_code == 429  # even the right one
    assert tried("ines", GOOD, "203.0.113.8").status_code == 302  # from elsewhere


def test_a_password_is_changed_with_the_old_one(client, owner):
    client.force_login(owner)
    new = "another long phrase"
    wrong = {"old_password": "x", "new_password1": new, "new_password2": new}
    assert "Change it" in said(client.post(reverse("password"), wrong))
    answer = client.post(reverse("password"), {**wrong, "old_password": GOOD})
    assert answer.url == reverse("account")
    assert client.get(reverse("account")).status_code == 200  # still signed in
    owner.refresh_from_db()
    assert owner.check_password(new)


def test_deleting_an_account_deletes_all_of_it_and_nobody_elses(client, nerea, small_stack, owner):
    nerea.set_password(GOOD)
    nerea.save()
    enqueue(nerea, "measure", 1)
    kept = Site.objects.create(owner=owner, name="Mine", lat=1, lon=1, tz="UTC")
    folder = Path(settings.MEDIA_ROOT) / str(nerea.pk)
    assert folder.is_dir()
    client.force_login(nerea)
    assert client.post(reverse("account-end"), {"password": "wrong"}).status_code == 400
    assert User.objects.filter(pk=nerea.pk).exists() and folder.is_dir()
    assert client.post(reverse("account-end"), {"password": GOOD}).url == reverse("sign-in")
    assert not User.objects.filter(pk=nerea.pk).exists() and not folder.exists()
    assert not Take.objects.exists() and not Phone.objects.exists() and not Job.objects.exists()
    assert list(Site.objects.all()) == [kept]
    assert client.get(reverse("home")).url.startswith(reverse("sign-in"))


def test_accounts_from_the_shell(monkeypatch, capsys, nerea):
    import io

    from vinter.cli import main

    monkeypatch.setattr("vinter.web.serve.prepare", lambda: None)

    def run(*arguments, typed=""):
        monkeypatch.setattr(sys, "stdin", io.StringIO(typed))
        code = main(["account", *arguments])
        out = capsys.readouterr()
        return code, out.out + out.err

    assert run("add", "rui", typed=f"{GOOD}\n") == (0, "rui: account made\n")
    assert User.objects.get(username="rui").check_password(GOOD)
    assert run("add", "rui", typed=f"{GOOD}\n")[0] == 2 and "taken" in run("add", "Rui", typed=f"{GOOD}\n")[1]
    assert "too short" in run("password", "rui", typed="x\n")[1]
    assert run("password", "rui", typed="another long phrase\n")[0] == 0
    assert "no such person" in run("password", "eve", typed=f"{GOOD}\n")[1]
    assert run("delete", "rui") == (0, "rui: account deleted, with everything in it\n")
    assert not User.objects.filter(username="rui").exists()


def test_two_that_make_the_first_account_at_once_leave_one_name_each(owner):
    with pytest.raises(BadInput, match="taken"):
        people.add("ines", GOOD)
    assert User.objects.count() == 1


def test_processes_that_start_together_share_one_key_and_one_upgrade(tmp_path):
    code = (
        "import django; django.setup(); from django.conf import settings; "
        "from vinter.web.serve import prepare; prepare(); print(settings.SECRET_KEY)"
    )
    environment = {
        **os.environ,
        "VINTER_HOME": str(tmp_path),
        "VINTER_DB": str(tmp_path / "v.sqlite3"),
        "PYTEST_XDIST_WORKER": "",
    }
    said_by = []

    def start():
        command = [sys.executable, "-c", code]
        done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
        said_by.append((done.returncode, done.stdout.strip(), done.stderr[-300:]))

    threads = [threading.Thread(target=start) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert [code for code, _, _ in said_by] == [0, 0, 0], said_by
    assert len({key for _, key, _ in said_by}) == 1 and len(said_by[0][1]) > 40
    assert (tmp_path / "secret.key").stat().st_mode & 0o077 == 0
