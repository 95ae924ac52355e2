"""The stand-in forecast service, a process of its own: made-up weather over HTTP, with the bad habits of real
ones.

Run as ``python -m vinter.web.forecast.service PORT``. GET /?lat=&lon= answers JSON; habit=late waits,
habit=fail answers 503, habit=stale gives a run two days old.
"""

import json
import os
import signal
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

from vinter.core.parallel import end_with_parent
from vinter.core.simulate.weather import answer, spoken

LATE_SECONDS = 9.0


class Desk(BaseHTTPRequestHandler):
    """Answers one request."""

    def do_GET(self) -> None:
        """Weather for the place asked for."""
        asked = {k: v[0] for k, v in parse_qs(urlsplit(self.path).query).items()}
        habit = asked.get("habit", "")
        if habit == "late":
            time.sleep(LATE_SECONDS)
        try:
            lat, lon = float(asked["lat"]), float(asked["lon"])
        except (KeyError, ValueError):
            self._say(400, {"error": "lat and lon are wanted"})
            return
        if habit == "fail":
            self._say(503, {"error": "the model run is not ready"})
        else:
            self._say(200, spoken(answer(lat, lon, time.time(), stale=habit == "stale")))

    def _say(self, status: int, data: dict[str, object]) -> None:
        body = json.dumps(data).encode()
        try:
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
        except OSError:
            pass  # whoever asked has gone

    def log_message(self, *_: object) -> None:
        """Say nothing."""


def server(port: int) -> ThreadingHTTPServer:
    """The service, bound but not yet serving; port 0 takes a free one."""
    return ThreadingHTTPServer(("127.0.0.1", port), Desk)


if __name__ == "__main__":
    end_with_parent(
        signal.SIGKILL, int(os.environ["VINTER_PARENT"]) if "VINTER_PARENT" in os.environ else None
    )
    server(int(sys.argv[1])).serve_forever()
