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
from vinter.web.accounts.models import nobody_yet


def add(name: str, password: str) -> User:
    """A new account; the first one may invite others. BadInput says what is wrong with name or password."""
    user = User(username=name)
    try:
        user.clean_fields(exclude=["password"])
        validate_password(password, user)
    except ValidationError as error:
        raise BadInput("; ".join(error.messages)) from error
    with transaction.atomic():
        if User.objects.filter(username__iexact=name).exists():
            raise BadInput(f"{name}: this name is taken")
        user.is_staff = nobody_yet()
        user.set_password(password)
        user.save()
    return user


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
    files."""
    folder = Path(settings.MEDIA_ROOT) / str(user.pk)
    owned = [m for m in apps.get_models() if any(f.name == "owner" for f in m._meta.get_fields())]
    with transaction.atomic():
        for model in reversed(owned):
            model._base_manager.filter(owner=user).delete()
        user.delete()
    shutil.rmtree(folder, ignore_errors=True)
