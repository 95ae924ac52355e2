"""Web server and worker together: the worker is a child that is started again when it dies."""

import logging
import subprocess
import sys
import threading
import time

from waitress import serve as waitress_serve

BODY_LIMIT = 450 * 2**20
RESTART_SECONDS = 1.0


class WorkerKeeper:
    """Keeps one worker process running until told to stop."""

    def __init__(self) -> None:
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
            self._process = subprocess.Popen([sys.executable, "-m", "vinter.web.jobs.worker"])
            while self._process.poll() is None and not self._stop.is_set():
                time.sleep(0.3)
            if not self._stop.is_set():
                logging.getLogger("vinter").warning("the worker ended (%s); starting it again", self._process.returncode)
                self._stop.wait(RESTART_SECONDS)


def serve(host: str, port: int) -> None:
    """Serve until interrupted."""
    from vinter.web.wsgi import application

    keeper = WorkerKeeper()
    keeper.start()
    print(f"Vinter is at http://{'localhost' if host == '127.0.0.1' else host}:{port}/  (Ctrl-C stops it)", flush=True)
    try:
        waitress_serve(application, host=host, port=port, threads=16, max_request_body_size=BODY_LIMIT, ident=None)
    finally:
        keeper.stop()
