"""Making and ending accounts, for pages and for the command line."""

import shutil
from pathlib import Path

from django.apps import apps
from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from vinter.core.errors import BadInput
from vinter.web.accounts.models import OPEN, nobody_yet, use_invitation


def add(name: str, password: str, code: str | None = None) -> User:
    """A new account; the first one owns this Vinter. With a ``code`` (empty: none) only as far as signing up
    is allowed, and an invitation is used up by it. BadInput says what is wrong with name or password,
    Closed that nobody is let in this way."""
    user = User(username=name)
    try:
        user.clean_fields(exclude=["password"])
        validate_password(password, user)
    except ValidationError as error:
        raise BadInput("; ".join(error.messages)) from error
    user.set_password(password)  # takes its time, so before the database is held
    with transaction.atomic():
        if User.objects.filter(username__iexact=name).exists():
            raise BadInput(f"{name}: this name is taken")
        user.is_staff = nobody_yet()
        if code is not None and not (user.is_staff or settings.SIGN_UP == OPEN or use_invitation(code)):
            raise Closed("accounts here are made by invitation")
        user.save()
    return user


class Closed(BadInput):
    """Nobody may sign up this way, or not any more."""


def make_owner(user: User) -> None:
    """Let an account own this Vinter, beside whoever does; it may invite others."""
    if not user.has_usable_password():
        raise BadInput(f"{user.username}: an owner needs a password; give it one first")
    user.is_staff = True
    user.save(update_fields=["is_staff"])


def others(user: User) -> list[User]:
    """The other people with an account and a password, by name."""
    return [u for u in User.objects.exclude(pk=user.pk).order_by("username") if u.has_usable_password()]


def _check_end(user: User) -> None:
    """BadInput when ending an account would leave a home of other people without an owner."""
    left = others(user)
    if user.is_staff and left and not any(u.is_staff for u in left):
        raise BadInput(
            f"{user.username} alone owns this Vinter, and others are here: make one of them an owner first "
            f"(on the account page, or by 'vinter account owner NAME'); nothing was deleted"
        )


def person(name: str) -> User:
    """An account by its name; BadInput when there is none."""
    found = get_user_model().objects.filter(username=name).first()
    if found is None:
        raise BadInput(f"{name}: no such person here")
    return found


def named_or_new(name: str) -> tuple[User, bool]:
    """An account by its name, and whether it had to be made; a new one has no password yet."""
    found = get_user_model().objects.filter(username=name).first()
    if found is not None:
        return found, False
    user = User(username=name)
    user.set_unusable_password()
    try:
        user.full_clean(exclude=["password"])
    except ValidationError as error:
        raise BadInput(f"{name!r}: {'; '.join(error.messages)}") from error
    user.save()
    return user, True


def set_password(name: str, password: str) -> None:
    """A new password for an account."""
    user = person(name)
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise BadInput("; ".join(error.messages)) from error
    user.set_password(password)
    user.save(update_fields=["password"])


def delete(user: User) -> None:
    """An account and all it owns: rows first, in the order from the ledger back to the sites, then its
    files. BadInput for the only owner while others are here."""
    folder = Path(settings.MEDIA_ROOT) / str(user.pk)
    owned = [m for m in apps.get_models() if any(f.name == "owner" for f in m._meta.get_fields())]
    with transaction.atomic():
        _check_end(User.objects.get(pk=user.pk))
        for model in reversed(owned):
            model._base_manager.filter(owner=user).delete()
        user.delete()
    shutil.rmtree(folder, ignore_errors=True)
