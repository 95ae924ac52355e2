"""Web server, worker and forecast stand-in together: the children are started again when they die."""

import fcntl
import gc
import logging
import os
import socket
import subprocess
import sys
import threading
import time

import django
from django.conf import settings
from django.core.management import call_command
from waitress import serve as waitress_serve

from vinter.core.parallel import give_back, one_heap
from vinter.core.sky.ephemeris import year_direction, year_ephemeris
from vinter.core.warm import finishing, in_background
from vinter.web.home_network import names_of, own_addresses, serve_home

BODY_LIMIT = 450 * 2**20
RESTART_SECONDS = 1.0
THREADS = 32
GIVE_BACK_SECONDS = 15.0  # s between the times at which freed memory is given back
COMPUTE_PROCESSES = min(os.cpu_count() or 1, 4)
LOCAL = ("127.0.0.1", "0.0.0.0", "::", "::1")


class Keeper:
    """Keeps one child process running until told to stop."""

    def __init__(self, name: str, *command: str) -> None:
        self._name, self._command = name, [sys.executable, "-m", *command]
        self._stop = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def start(self) -> None:
        """Start keeping."""
        self._thread.start()

    def stop(self) -> None:
        """End the worker and stop keeping."""
        self._stop.set()
        if self._process and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(5)
            except subprocess.TimeoutExpired:
                self._process.kill()

    def _keep(self) -> None:
        while not self._stop.is_set():
            self._process = subprocess.Popen(
                self._command, env={**os.environ, "VINTER_PARENT": str(os.getpid())}
            )
            while self._process.poll() is None and not self._stop.is_set():
                time.sleep(0.3)
            if not self._stop.is_set():
                logging.getLogger("vinter").warning(
                    "%s ended (%s); starting it again", self._name, self._process.returncode
                )
                self._stop.wait(RESTART_SECONDS)


def _free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def _warm(compiling: list[subprocess.Popen[bytes]]) -> None:
    """Have what pages would wait for: the ephemeris of this year and the next, the nights of the sites of
    whoever was here last, the kernels of the finish once they are compiled.

    All that is loaded by then stays, and is not looked through for rubbish every few requests (a tenth of a
    second each time).
    """
    for year in (time.gmtime().tm_year, time.gmtime().tm_year + 1):
        year_ephemeris(year)
        year_direction(year)
    from vinter.web.nights.beforehand import prepare_years

    try:
        prepare_years()
    except Exception:  # a page works it out when it is asked for; what follows is wanted all the same
        logging.getLogger("vinter").exception("no year was worked out beforehand")
    for process in compiling:
        process.wait()
    finishing()
    gc.collect()
    gc.freeze()


def _give_back() -> None:
    """Give freed memory back again and again: what a rush of pages or a finish used stays theirs for a while,
    and not for good."""
    while True:
        time.sleep(GIVE_BACK_SECONDS)
        give_back()


def prepare() -> None:
    """Bring the database up to date; of several that start together one does it and the others wait."""
    with open(settings.HOME / "upgrade.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        call_command("migrate", verbosity=0, interactive=False)


def serve(host: str, port: int, phone: bool = False) -> None:
    """Serve until interrupted; for a ``phone`` also over HTTPS on the home network, on the next port."""
    names = names_of(own_addresses()) if phone else []
    if phone:
        hosts = os.environ.get("VINTER_HOSTS", "localhost,127.0.0.1,[::1]")
        os.environ["VINTER_HOSTS"] = ",".join(dict.fromkeys([*hosts.split(","), *names]))
        os.environ.setdefault("VINTER_ADDRESS", f"https://{names[0]}:{port + 1}")
    one_heap()
    keepers = [Keeper("the worker", "vinter.web.jobs.worker")]
    if not os.environ.get("VINTER_FORECAST"):
        stand_in = _free_port()
        os.environ["VINTER_FORECAST"] = f"http://127.0.0.1:{stand_in}/"
        keepers.append(Keeper("the forecast stand-in", "vinter.web.forecast.service", str(stand_in)))
    if not os.environ.get("VINTER_ORIGINS"):
        os.environ.setdefault("VINTER_ADDRESS", f"http://{'localhost' if host in LOCAL else host}:{port}")
    os.environ.setdefault("VINTER_COMPUTE", str(COMPUTE_PROCESSES))
    django.setup()
    from vinter.web.assets import collect

    prepare()
    collect()  # before the application looks for them
    from vinter.web.wsgi import application

    for keeper in keepers:
        keeper.start()
    from vinter.web.compute import POOL

    POOL.start()
    compiling = in_background()
    threading.Thread(
        target=_warm, args=(compiling,), daemon=True
    ).start()  # the first page does not wait for it
    threading.Thread(target=_give_back, daemon=True).start()
    print(
        f"Vinter is at http://{'localhost' if host == '127.0.0.1' else host}:{port}/  (Ctrl-C stops it)",
        flush=True,
    )
    servers = (
        serve_home(application, "0.0.0.0", port + 1, settings.HOME / "authority", names) if phone else []
    )
    if phone:
        print(f"For the phone: open http://{names[0]}:{port + 2}/ on it, in the same network", flush=True)
    try:
        waitress_serve(
            application,
            host=host,
            port=port,
            threads=THREADS,
            max_request_body_size=BODY_LIMIT,
            ident=None,
            clear_untrusted_proxy_headers=False,  # whom to believe is decided in security.TrustedProxies
        )
    finally:
        for process in compiling:
            process.terminate()
        for server in servers:
            server.stop()
        for keeper in keepers:
            keeper.stop()
