"""HTTPS on the home network, so that a phone keeps the card without signal: an authority of this home, the
certificate of this machine, and the plain steps by which a phone learns to trust them."""

import contextlib
import ipaddress
import os
import socket
import ssl
import threading
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING
from wsgiref.types import StartResponse, WSGIApplication, WSGIEnvironment

import segno
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from django.template.loader import render_to_string

if TYPE_CHECKING:
    from cheroot.wsgi import Server

AUTHORITY_DAYS, MACHINE_DAYS, RENEW_DAYS = (
    3650,
    390,
    30,
)  # phones refuse certificates of machines beyond 398 days
CERTIFICATE = "vinter-home.crt"


@dataclass(frozen=True)
class Certificate:
    """Where a certificate and its key lie."""

    certificate: Path
    key: Path


def own_addresses() -> list[str]:
    """The addresses by which other machines of the home network reach this one, the likeliest first."""
    found = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe, contextlib.suppress(OSError):
        probe.connect(("192.0.2.1", 9))  # nothing is sent: it only asks which way would be taken
        found.append(str(probe.getsockname()[0]))
    with contextlib.suppress(OSError):
        found += [str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)]
    return [a for a in dict.fromkeys(found) if not ipaddress.ip_address(a).is_loopback]


def names_of(addresses: list[str]) -> list[str]:
    """Host names and addresses that this machine answers to."""
    host = socket.gethostname()
    return list(dict.fromkeys([*addresses, host, f"{host}.local", "localhost", "127.0.0.1"]))


def _write_key(path: Path, key: ec.EllipticCurvePrivateKey) -> None:
    data = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    with os.fdopen(os.open(path, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, 0o600), "wb") as file:
        file.write(data)


def _named(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


def authority(folder: Path) -> Certificate:
    """The authority of this home, made once; its key is readable by the owner only."""
    found = Certificate(folder / "authority.pem", folder / "authority.key")
    if found.certificate.is_file() and found.key.is_file():
        return found
    folder.mkdir(parents=True, exist_ok=True)
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    name = _named(f"Vinter at home, {socket.gethostname()}")
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=AUTHORITY_DAYS))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(
            x509.KeyUsage(False, False, False, False, False, True, True, False, False), critical=True
        )
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )
    _write_key(found.key, key)
    found.certificate.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return found


def _alternative(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def _fits(path: Path, names: list[str]) -> bool:
    """Whether a certificate is for all of these names and will last."""
    if not path.is_file():
        return False
    made = x509.load_pem_x509_certificate(path.read_bytes())
    held = set(made.extensions.get_extension_for_class(x509.SubjectAlternativeName).value)
    lasting = made.not_valid_after_utc > datetime.now(UTC) + timedelta(days=RENEW_DAYS)
    return lasting and {_alternative(name) for name in names} <= held


def machine(folder: Path, names: list[str]) -> Certificate:
    """This machine's certificate for its names, signed by the home's authority; made anew when they change or
    it runs out."""
    signer = authority(folder)
    found = Certificate(folder / "machine.pem", folder / "machine.key")
    if found.key.is_file() and _fits(found.certificate, names):
        return found
    root = x509.load_pem_x509_certificate(signer.certificate.read_bytes())
    root_key = serialization.load_pem_private_key(signer.key.read_bytes(), None)
    assert isinstance(root_key, ec.EllipticCurvePrivateKey)
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(_named("Vinter"))
        .issuer_name(root.subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=MACHINE_DAYS))
        .add_extension(x509.SubjectAlternativeName([_alternative(name) for name in names]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(root_key.public_key()), critical=False
        )
        .sign(root_key, hashes.SHA256())
    )
    _write_key(found.key, key)
    found.certificate.write_bytes(
        made.public_bytes(serialization.Encoding.PEM) + root.public_bytes(serialization.Encoding.PEM)
    )
    return found


def certificate_for(folder: Path, names: list[str]) -> tuple[Certificate, Path | None]:
    """The certificate to serve with, and the authority's that phones are to trust; one's own by VINTER_CERT
    and VINTER_KEY needs none."""
    own = os.environ.get("VINTER_CERT"), os.environ.get("VINTER_KEY")
    if own[0] and own[1]:
        return Certificate(Path(own[0]), Path(own[1])), None
    return machine(folder, names), authority(folder).certificate


def steps_page(secure: str, certificate: Path | None) -> WSGIApplication:
    """A small application for plain http: the steps for a phone and the authority's certificate, nothing
    else."""
    code = segno.make(secure, error="m").svg_inline(scale=5, dark="#10213f", light="#f1f3f2")
    words = {"secure": secure, "code": code, "certificate": CERTIFICATE if certificate else ""}
    page = render_to_string("phone/steps.html", words).encode()

    def application(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        path = environ.get("PATH_INFO", "/")
        if path == f"/{CERTIFICATE}" and certificate:
            data, kind = certificate.read_bytes(), "application/x-x509-ca-cert"
        elif path == "/":
            data, kind = page, "text/html; charset=utf-8"
        else:
            start_response("404 Not Found", [("Content-Type", "text/plain")])
            return [b"nothing here"]
        start_response("200 OK", [("Content-Type", kind), ("Content-Length", str(len(data)))])
        return [data]

    return application


def serve_home(
    application: WSGIApplication, host: str, port: int, folder: Path, names: list[str]
) -> list["Server"]:
    """Serve an application over HTTPS on ``port`` and the steps for a phone over plain http on the next one,
    in threads of their own; the servers, to be stopped."""
    from cheroot.ssl.builtin import BuiltinSSLAdapter
    from cheroot.wsgi import Server

    certificate, root = certificate_for(folder, names)
    secure = Server((host, port), application, numthreads=16, server_name="vinter")
    adapter = BuiltinSSLAdapter(str(certificate.certificate), str(certificate.key))
    adapter.context.minimum_version = ssl.TLSVersion.TLSv1_2
    secure.ssl_adapter = adapter
    secure.max_request_body_size = 450 * 2**20
    plain = Server((host, port + 1), steps_page(f"https://{names[0]}:{port}/", root), numthreads=2)
    for server in (secure, plain):
        server.prepare()
        threading.Thread(target=server.serve, daemon=True).start()
    return [secure, plain]
