"""Behind a proxy: whose wrong passwords count against whom, and what browsers are told."""

import subprocess
import sys
from ipaddress import ip_network

import pytest
from django.test import Client
from django.urls import reverse

from vinter.web.accounts import people

pytestmark = pytest.mark.django_db
PASSWORD = "a long password"


@pytest.fixture
def owner():
    return people.add("owner", PASSWORD)


def attempt(password, forwarded=None, remote="127.0.0.1"):
    headers = {"X-Forwarded-For": forwarded} if forwarded else {}
    form = {"username": "owner", "password": password}
    return Client(REMOTE_ADDR=remote).post(reverse("sign-in"), form, headers=headers).status_code


def test_wrong_passwords_of_strangers_do_not_lock_the_owner_out(owner):
    stranger = [attempt("wrong", "203.0.113.7") for _ in range(8)]
    assert stranger[-1] in (403, 429) and attempt(PASSWORD, "203.0.113.7") in (403, 429)
    assert attempt(PASSWORD, "198.51.100.4") == 302


def test_what_a_stranger_says_of_the_way_is_not_believed(owner, settings):
    """From another machine, each time with another made-up address; and through the proxy likewise."""
    direct = [attempt("wrong", f"198.51.100.{i}", remote="203.0.113.9") for i in range(8)]
    assert direct[-1] in (403, 429)
    proxied = [attempt("wrong", f"198.51.100.{i}, 203.0.113.8") for i in range(8)]
    assert proxied[-1] in (403, 429)
    assert attempt(PASSWORD, "198.51.100.1") == 302


def test_a_proxy_elsewhere_is_believed_when_it_is_named(owner, settings):
    for _ in range(8):
        attempt("wrong", "203.0.113.7", remote="10.1.2.3")
    assert attempt(PASSWORD, "198.51.100.4", remote="10.1.2.3") in (403, 429)  # a machine like any other
    settings.PROXIES = [ip_network("10.1.0.0/16")]
    assert attempt(PASSWORD, "198.51.100.4", remote="10.1.2.3") == 302


def test_browsers_are_told_to_stay_with_https_where_it_is_on(client, settings):
    assert "Strict-Transport-Security" not in client.get(reverse("sign-in")).headers
    settings.HTTPS = True
    assert client.get(reverse("sign-in")).headers["Strict-Transport-Security"] == "max-age=31536000"


def test_the_setting_turns_it_on(tmp_path):
    """From the environment to the answer, in a process of its own, as the proxy sees it."""
    script = (
        "import django; django.setup()\n"
        "from django.core.management import call_command; call_command('migrate', verbosity=0)\n"
        "from vinter.web.assets import collect; collect()\n"
        "from django.test import Client\n"
        "print(Client().get('/sign-up/').headers.get('Strict-Transport-Security'))"
    )
    import os

    environment = {
        **os.environ,
        "VINTER_HOME": str(tmp_path),
        "VINTER_HTTPS": "1",
        "VINTER_HOSTS": "testserver",
    }
    environment.pop("VINTER_DB", None)
    done = subprocess.run([sys.executable, "-c", script], env=environment, capture_output=True, text=True)
    assert done.stdout.strip() == "max-age=31536000", done.stderr[-500:]
