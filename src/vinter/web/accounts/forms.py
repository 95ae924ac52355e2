"""Making an account, how figures are written in it, and ending it."""

from collections.abc import Mapping

from django import forms
from django.contrib.auth.forms import BaseUserCreationForm
from django.contrib.auth.models import AbstractBaseUser, User

from vinter.web.accounts.models import Convention


class SignUpForm(BaseUserCreationForm):  # type: ignore[type-arg]
    """A name and a password, said twice; names differ by more than their capitals."""

    class Meta:
        model = User
        fields = ("username",)
        labels = {"username": "Name"}

    def clean_username(self) -> str:
        """A name that nobody has, whatever its capitals."""
        name = str(self.cleaned_data["username"])
        if User.objects.filter(username__iexact=name).exists():
            raise forms.ValidationError("this name is taken")
        return name


class ConventionForm(forms.ModelForm):  # type: ignore[type-arg]
    """Clock, units and language of dates."""

    class Meta:
        model = Convention
        fields = ("clock", "units", "language")


class EndForm(forms.Form):
    """The password once more, before everything of an account is deleted."""

    password = forms.CharField(
        label="Your password", widget=forms.PasswordInput(attrs={"autocomplete": "current-password"})
    )

    def __init__(self, user: AbstractBaseUser, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.user = user

    def clean_password(self) -> str:
        """It must be the right one."""
        given = str(self.cleaned_data["password"])
        if not self.user.check_password(given):
            raise forms.ValidationError("this is not your password; nothing was deleted")
        return given
