"""Vinter as it is served: web server, worker and stand-ins as processes of their own."""

import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

PATIENCE = 90.0  # s for a server to start on a loaded machine


def children(pid, word):
    """Children of a process whose command line holds a word."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            if (
                entry.name.isdigit()
                and int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1]) == pid
                and word in (entry / "cmdline").read_text()
            ):
                found.append(int(entry.name))
        except (OSError, IndexError, ValueError):
            continue
    return found


class Served:
    """The whole of `vinter serve` in an environment, started again by hand when its web process dies."""

    def __init__(self, environment, wait=True):
        self.environment = environment
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.process = None
        self.start(wait)

    def start(self, wait=True):
        command = [
            sys.executable,
            "-m",
            "vinter.cli",
            "serve",
            "--host",
            "127.0.0.1",
            "--port",
            str(self.port),
        ]
        self.process = subprocess.Popen(command, env=self.environment, stdout=subprocess.DEVNULL)
        if wait:
            self.answers()

    def answers(self):
        end = time.monotonic() + PATIENCE
        while time.monotonic() < end:
            try:
                return urllib.request.urlopen(f"http://127.0.0.1:{self.port}/sign-in/", timeout=15).status
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the web server does not answer")

    def pids(self, what):
        workers = children(self.process.pid, "vinter.web.jobs.worker")
        if what == "web":
            return [self.process.pid]
        return (
            workers
            if what == "worker"
            else [p for w in workers for p in children(w, "multiprocessing.spawn")]
        )

    def stop(self):
        self.process.terminate()
        self.process.wait(20)
