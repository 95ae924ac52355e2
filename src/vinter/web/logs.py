"""Log lines: one event each, with the number of the request it came of."""

import logging
import secrets
from collections.abc import Callable
from contextvars import ContextVar

from django.http import HttpRequest, HttpResponse

REQUEST: ContextVar[str] = ContextVar("request", default="-")
HEADER = "X-Request-ID"


class RequestNumbers:
    """Gives every request a number, which its answer carries and its log lines name."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The answer, with the number in its head."""
        number = secrets.token_hex(4)
        token = REQUEST.set(number)
        try:
            answer = self.get_response(request)
        finally:
            REQUEST.reset(token)
        answer[HEADER] = number
        return answer


class OneLine(logging.Formatter):
    """A line an event: time, level, request, logger, message; a traceback follows on the same line."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(levelname)s %(request_number)s %(name)s %(message)s")

    def format(self, record: logging.LogRecord) -> str:
        """The record as a line."""
        record.request_number = REQUEST.get()
        return " | ".join(line.strip() for line in super().format(record).splitlines() if line.strip())
