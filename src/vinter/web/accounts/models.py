"""Invitations to an account, and how a person likes figures written."""

import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.auth.base_user import AbstractBaseUser
from django.contrib.auth.models import AnonymousUser
from django.db import models
from django.utils import timezone

from vinter.web.conventions import CLOCKS, LANGUAGES, UNITS, USUAL, Conventions

INVITATION_DAYS = 14
OPEN = "open"  # value of the setting by which everybody may sign up


def _code() -> str:
    return secrets.token_urlsafe(16)


class Invitation(models.Model):
    """A link that lets one person make an account; used once, for two weeks."""

    code = models.CharField(max_length=40, unique=True, default=_code)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    created = models.DateTimeField(auto_now_add=True)
    used = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"invitation by {self.owner}"

    @property
    def good(self) -> bool:
        """Whether it can still be used."""
        return self.used is None and timezone.now() - self.created < timedelta(days=INVITATION_DAYS)


class Convention(models.Model):
    """Clock, units and language of dates of one person."""

    owner = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE)
    clock = models.CharField("clock", max_length=2, choices=CLOCKS.items(), default=USUAL.clock)
    units = models.CharField("units", max_length=8, choices=UNITS.items(), default=USUAL.units)
    language = models.CharField(
        "names of days and months", max_length=5, choices=LANGUAGES.items(), default=USUAL.language
    )

    def __str__(self) -> str:
        return f"conventions of {self.owner}"


def conventions_of(user: AbstractBaseUser | AnonymousUser) -> Conventions:
    """How a person likes figures written; the usual way where they said nothing."""
    row = Convention.objects.filter(owner=user.pk).first() if user.is_authenticated else None
    return Conventions(row.clock, row.units, row.language) if row else USUAL


def nobody_yet() -> bool:
    """Whether no account with a password is here: then whoever comes first is the owner of this Vinter."""
    marks = [user.has_usable_password() for user in get_user_model().objects.only("password")]
    return not any(marks)


def good_invitation(code: str) -> Invitation | None:
    """An invitation that can still be used."""
    found = Invitation.objects.filter(code=code).first() if code else None
    return found if found and found.good else None


def use_invitation(code: str) -> bool:
    """Use an invitation up; False when it cannot be used, or somebody else just did."""
    found = good_invitation(code)
    now = timezone.now()
    return bool(found and Invitation.objects.filter(pk=found.pk, used=None).update(used=now))


def may_sign_up(code: str) -> bool:
    """Whether an account can be made: the first one, with an invitation, or where signing up is open."""
    return nobody_yet() or settings.SIGN_UP == OPEN or good_invitation(code) is not None
