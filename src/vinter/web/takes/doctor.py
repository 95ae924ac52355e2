"""A page that says what Vinter understands of a file."""

from pathlib import Path

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.frames.doctor import Finding, examine_file
from vinter.web.compute import computed
from vinter.web.uploads import saved_files
from vinter.web.workflow import head


def examined(saved: list[tuple[Path, str]]) -> list[tuple[str, list[Finding]]]:
    """Names and findings of saved files; for a process of the pool."""
    return [(name, examine_file(path)) for path, name in saved]


def doctor(request: HttpRequest) -> HttpResponse:
    """Give it files; they are looked at and forgotten."""
    found: list[tuple[str, list[Finding]]] = []
    if request.method == "POST":
        with saved_files(request.FILES.getlist("files"), 1, known=False) as saved:
            found = computed(("doctor", saved[0][0]), examined, saved)
    return render(request, "takes/doctor.html", {"files": found, **head("Takes")})
