"""Thirty people at once on the planning pages while a stack runs: how long they wait.

usage: bench/load.py [--people 30] [--seconds 60] [--think 2] [--own-sites] [--no-stack] [--no-warm-up]

Starts Vinter on a home of its own with demo data, as `serve` does, lets simulated people walk from page to
page with a pause of about ``--think`` seconds, and prints the waits: median, 95th percentile, longest, by
page; errors; the memory of the web process. With ``--own-sites`` everybody has a site of their own, so that
nothing one asks was computed for another. Waits depend on the machine: run it twice and compare within one
machine.
"""

import argparse
import http.client
import http.cookies
import os
import random
import re
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from datetime import date, timedelta
from pathlib import Path
from urllib.parse import urlencode

from demo_home import make_demo_home

ROOT = Path(__file__).resolve().parents[1]
QUIET_SECONDS = float(os.environ.get("VINTER_LOAD_QUIET", "20"))  # s after the rush
PASSWORD = "a night at the mill"
PLAIN = r"(?s)class=.wrong[^>]*>(.*?)</p>"


WHOLE: dict[str, list[float]] = defaultdict(list)  # until the page was there with all it shows


class Person:
    """One browser: keeps cookies, follows redirects, notes how long each answer took."""

    def __init__(self, port: int, waits: dict[str, list[float]], errors: list[str]) -> None:
        self.port, self.waits, self.errors = port, waits, errors
        self.whole = WHOLE
        self.cookies: dict[str, str] = {}

    def ask(self, path: str, form: dict[str, str] | None = None, page: str = "") -> tuple[int, str]:
        """GET, or POST with a form; status and text. What it took counts under ``page``."""
        begun = time.perf_counter()
        status, text = self._one(path, form)
        if page:
            self.waits[page].append(time.perf_counter() - begun)
            while status == 202:  # the page says that it is coming and asks again by itself
                time.sleep(1.0)
                status, text = self._one(path, form)
            self.whole[page].append(time.perf_counter() - begun)
            # nothing stands there then, or the towns are too bright: an answer, not an error
            if status >= 400 and not re.search("below|too bright", text):
                self.errors.append(f"{status} {path} {re.findall(PLAIN, text)}")
        return status, text

    def _one(self, path: str, form: dict[str, str] | None) -> tuple[int, str]:
        for _ in range(5):
            link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=120)
            headers = {
                "Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items()),
                "Accept": "text/html",
            }
            body = None
            if form is not None:
                body = urlencode({**form, "csrfmiddlewaretoken": self.cookies.get("csrftoken", "")})
                headers |= {
                    "Content-Type": "application/x-www-form-urlencoded",
                    "Referer": f"http://127.0.0.1:{self.port}/",
                }
            link.request("POST" if body is not None else "GET", path, body, headers)
            answer = link.getresponse()
            for line in answer.headers.get_all("Set-Cookie") or []:
                self.cookies |= {k: m.value for k, m in http.cookies.SimpleCookie(line).items()}
            text = answer.read().decode(errors="replace")
            link.close()
            if answer.status not in (301, 302, 303):
                return answer.status, text
            path, form = answer.headers["Location"], None
        return 508, ""


def walk(person: Person, sites: list[int], end: float, think: float, dice: random.Random) -> None:
    """Plan: home, a site's season, nights, skyline, a shot; again and again."""
    while time.perf_counter() < end:
        site = dice.choice(sites)
        day = date.today() + timedelta(days=dice.randrange(365))
        moment = int(time.mktime((day + timedelta(days=1)).timetuple())) + 3600
        steps = [
            ("home", "/"),
            ("sites", "/sites/"),
            ("season", f"/sites/{site}/season/{day.year}/"),
            ("night", f"/sites/{site}/night/{day.isoformat()}/"),
            ("skyline", f"/sites/{site}/skyline/?t={moment}"),
            ("shot", f"/sites/{site}/shots/new/?t={moment}"),
            ("best", f"/season/best/?year={day.year}"),
        ]
        for page, path in steps:
            if time.perf_counter() >= end:
                return
            person.ask(path, page=page)
            time.sleep(dice.expovariate(1 / think) if think else 0)


def _environment(home: str) -> dict[str, str]:
    return {
        **os.environ,
        "VINTER_HOME": home,
        "VINTER_DEMO": "1",
        "VINTER_SIGN_UP": "open",
        "VINTER_SPARE_MB": "50",
        "DJANGO_SETTINGS_MODULE": "vinter.web.settings",
        "PYTHONPATH": str(ROOT / "src"),
    }


def _own_site(person: Person, number: int) -> list[int]:
    """A site of one's own, somewhere between 36 and 44 degrees north."""
    lat, lon = 36 + 8 * (number % 7) / 7, -8 + 16 * (number // 7) / 5
    form = {"name": f"Field {number}", "lat": f"{lat:.3f}", "lon": f"{lon:.3f}", "tz": "Europe/Lisbon"}
    form |= {"elevation": "100", "zenith": "21.3", "extinction": "0.25"}
    person.ask("/gear/add/", {"kind": "marlet-7"})
    person.ask("/sites/new/", form)
    _, page = person.ask("/sites/")
    return sorted({int(n) for n in re.findall(r"/sites/(\d+)/", page)})


def _enter(
    port: int, number: int, own: bool, waits: dict[str, list[float]], errors: list[str]
) -> tuple[Person, list[int]]:
    person = Person(port, waits, errors)
    person.ask("/sign-in/")
    if not own:
        person.ask("/sign-in/demo/", {})
        _, page = person.ask("/sites/")
        return person, sorted({int(n) for n in re.findall(r"/sites/(\d+)/", page)})
    person.ask("/sign-up/")
    name = f"person{number}"
    person.ask("/sign-up/", {"username": name, "password1": PASSWORD, "password2": PASSWORD})
    return person, _own_site(person, number)


def _stack(person: Person) -> None:
    """Let the simulated phone shoot the demo's shot, then stack it again and again."""
    _, page = person.ask("/shots/")
    shot = re.search(r"/shots/(\d+)/", page)
    assert shot
    person.ask(f"/shots/{shot[1]}/shoot/", {})


def _memory(pid: int, what: str = "VmHWM") -> float:
    """MB of a process: the most it had (VmHWM), or what it has (VmRSS)."""
    for line in Path(f"/proc/{pid}/status").read_text().splitlines():
        if line.startswith(what):
            return float(line.split()[1]) / 1024
    return 0.0


def _share(values: list[float], share: float) -> float:
    return sorted(values)[min(int(share * len(values)), len(values) - 1)]


def main() -> None:
    """Run it and print."""
    parse = argparse.ArgumentParser()
    parse.add_argument("--people", type=int, default=30)
    parse.add_argument("--seconds", type=float, default=60)
    parse.add_argument("--think", type=float, default=2.0)
    parse.add_argument("--own-sites", action="store_true")
    parse.add_argument("--no-stack", action="store_true")
    a = parse.parse_args()
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = int(s.getsockname()[1])
    waits: dict[str, list[float]] = defaultdict(list)
    errors: list[str] = []
    with tempfile.TemporaryDirectory() as home:
        env = _environment(home)
        make_demo_home(Path(home), env)
        serving = subprocess.Popen(
            [sys.executable, "-m", "vinter.cli", "serve", "--port", str(port)],
            env=env,
            stdout=subprocess.DEVNULL,
        )
        try:
            for _ in range(300):
                with socket.socket() as s:
                    if s.connect_ex(("127.0.0.1", port)) == 0:
                        break
                time.sleep(0.1)
            people = [_enter(port, i, a.own_sites, waits, errors) for i in range(a.people)]
            if not a.no_stack:
                busy, _ = _enter(port, 0, False, waits, errors)
                _stack(busy)
                time.sleep(2)
            end = time.perf_counter() + a.seconds
            threads = [
                threading.Thread(target=walk, args=(p, sites, end, a.think, random.Random(i)))
                for i, (p, sites) in enumerate(people)
            ]
            for t in threads:
                t.start()
            for t in threads:
                t.join()
            memory = _memory(serving.pid)
            time.sleep(QUIET_SECONDS)
            after = _memory(serving.pid, "VmRSS")
        finally:
            serving.terminate()
            serving.wait(30)
    every = [w for page in waits.values() for w in page]
    print(f"{a.people} people, {a.seconds:g} s, {len(every)} pages, {len(errors)} errors {errors[:3]}")
    print(f"{'page':10s} {'pages':>6s} {'median':>8s} {'95 %':>8s} {'longest':>8s}")
    for page, found in [("all", every), *sorted(waits.items())]:
        print(
            f"{page:10s} {len(found):6d} {_share(found, 0.5):8.2f} {_share(found, 0.95):8.2f} "
            f"{max(found):8.2f}"
        )
    there = [w for page in WHOLE.values() for w in page]
    print(
        f"until all is there: median {_share(there, 0.5):.2f}, 95 % {_share(there, 0.95):.2f}, longest "
        f"{max(there):.2f} s"
    )
    print(f"web process at most {memory:.0f} MB, {QUIET_SECONDS:g} s after it {after:.0f} MB")


if __name__ == "__main__":
    main()
