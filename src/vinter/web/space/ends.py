"""What has an end: rows that nobody will ask for any more go once they are old enough."""

from datetime import timedelta

from axes.models import AccessAttempt, AccessLog
from django.contrib.sessions.models import Session
from django.db.models import Q
from django.utils import timezone

from vinter.web.accounts.models import INVITATION_DAYS, Invitation
from vinter.web.field.models import OPEN_DAYS, CardTicket
from vinter.web.jobs.models import Job

JOB_DAYS = 30  # days after which a job that ended is forgotten
LOG_DAYS = 30  # days that the record of sign-ins is kept, for security
TRIES_DAYS = 2  # days that wrong passwords are kept, long after they stopped counting


def forget_old() -> int:
    """Delete what is over: sessions, ended jobs, tickets and invitations that open nothing any more, wrong
    passwords, the log of signing in. How many rows that were."""
    now = timezone.now()

    def before(days: float) -> object:
        return now - timedelta(days=days)

    over = (
        Session.objects.filter(expire_date__lt=now),
        Job.objects.filter(ended__lt=before(JOB_DAYS)).exclude(state__in=(Job.QUEUED, Job.RUNNING)),
        CardTicket.objects.filter(Q(created__lt=before(OPEN_DAYS)) | Q(revoked=True)),
        Invitation.objects.filter(created__lt=before(INVITATION_DAYS)),
        AccessAttempt.objects.filter(attempt_time__lt=before(TRIES_DAYS)),
        AccessLog.objects.filter(attempt_time__lt=before(LOG_DAYS)),
    )
    return sum(rows.delete()[0] for rows in over)
