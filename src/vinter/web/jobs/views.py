"""Progress of a job, polled by the page that waits for it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from vinter.web.jobs import models as jobs
from vinter.web.jobs.models import Job
from vinter.web.owned import owned


def status(request: HttpRequest, pk: int) -> HttpResponse:
    """The progress bar; asks the page to reload itself when the job ended."""
    job = owned(Job, request, pk)
    response = render(request, "jobs/progress.html", {"job": job})
    if not job.active:
        response["HX-Refresh"] = "true"
    return response


@require_POST
def cancel(request: HttpRequest, pk: int) -> HttpResponse:
    """Ask a job to stop."""
    job = owned(Job, request, pk)
    jobs.cancel(job)
    return render(request, "jobs/progress.html", {"job": job})
