"""A phone in the home network: HTTPS by an authority of this home, tried with another program's trust."""

import os
import socket
import ssl
import stat
import subprocess
import sys
import time
import urllib.error
import urllib.request

import pytest

from vinter.web.home_network import authority, certificate_for, machine, own_addresses, steps_page


def test_the_authority_is_made_once_and_its_key_is_the_owners(tmp_path):
    first = authority(tmp_path)
    before = first.certificate.read_bytes()
    assert (
        stat.S_IMODE(first.key.stat().st_mode) == 0o600
        and authority(tmp_path).certificate.read_bytes() == before
    )
    one = machine(tmp_path, ["10.0.0.5", "localhost"]).certificate.read_bytes()
    assert machine(tmp_path, ["localhost", "10.0.0.5"]).certificate.read_bytes() == one
    assert (
        machine(tmp_path, ["10.0.0.6", "localhost"]).certificate.read_bytes() != one
    )  # the router gave another
    assert stat.S_IMODE((tmp_path / "machine.key").stat().st_mode) == 0o600


def test_the_chain_is_one_that_openssl_takes(tmp_path):
    machine(tmp_path, ["10.0.0.5", "box.local"])
    words = "openssl verify -purpose sslserver -verify_ip 10.0.0.5 -CAfile authority.pem machine.pem"
    done = subprocess.run(words.split(), cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr


def test_certificates_of_ones_own_are_taken(tmp_path, monkeypatch):
    monkeypatch.setenv("VINTER_CERT", str(tmp_path / "a.pem"))
    monkeypatch.setenv("VINTER_KEY", str(tmp_path / "a.key"))
    found, root = certificate_for(tmp_path, ["localhost"])
    assert (
        found.certificate == tmp_path / "a.pem" and root is None and not (tmp_path / "authority.key").exists()
    )


def test_plain_http_gives_the_steps_and_the_certificate_alone(tmp_path):
    root = authority(tmp_path).certificate
    page = steps_page("https://10.0.0.5:8766/", root)

    def asked(path):
        told = []
        body = b"".join(
            page({"PATH_INFO": path}, lambda status, headers: told.extend([status, dict(headers)]))
        )
        return told[0], told[1]["Content-Type"], body

    status, kind, body = asked("/")
    assert (
        status == "200 OK"
        and b"https://10.0.0.5:8766/" in body
        and b"<svg" in body
        and kind.startswith("text/html")
    )
    assert asked("/vinter-home.crt")[1:] == ("application/x-x509-ca-cert", root.read_bytes())
    assert asked("/authority.key")[0] == asked("/../authority.key")[0] == "404 Not Found"


@pytest.mark.long("a server is started")
@pytest.mark.skipif(not own_addresses(), reason="this machine is in no network")
def test_served_to_another_address_of_this_machine(tmp_path):
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    environment = {**os.environ, "VINTER_HOME": str(tmp_path / "home")}
    for name in ("VINTER_DB", "VINTER_HOSTS", "VINTER_ADDRESS", "VINTER_ORIGINS"):
        environment.pop(name, None)
    command = [sys.executable, "-m", "vinter.cli", "serve", "--port", str(port), "--phone"]
    with subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL) as process:
        try:
            address = own_addresses()[0]
            end = time.monotonic() + 90
            while True:
                try:
                    page = urllib.request.urlopen(f"http://{address}:{port + 2}/", timeout=5).read().decode()
                    break
                except OSError:
                    assert process.poll() is None and time.monotonic() < end
                    time.sleep(0.2)
            root = urllib.request.urlopen(f"http://{address}:{port + 2}/vinter-home.crt", timeout=5).read()
            trusting = ssl.create_default_context(cadata=root.decode())
            secure = f"https://{address}:{port + 1}"
            assert secure in page
            answer = urllib.request.urlopen(f"{secure}/sign-up/", timeout=20, context=trusting)
            assert answer.status == 200 and b"Vinter" in answer.read()
            with pytest.raises(urllib.error.URLError, match="CERTIFICATE_VERIFY_FAILED"):
                urllib.request.urlopen(f"{secure}/sign-up/", timeout=20)
            assert urllib.request.urlopen(f"http://127.0.0.1:{port}/sign-up/", timeout=20).status == 200
            with pytest.raises(urllib.error.URLError):  # plain http stays on this machine
                urllib.request.urlopen(f"http://{address}:{port}/sign-up/", timeout=5)
        finally:
            process.terminate()
            process.wait(30)
