"""Signing in and up, and a person's own account."""

from django.conf import settings
from django.contrib.auth import login, logout
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView, PasswordChangeView
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect, render
from django.urls import reverse, reverse_lazy
from django.views.decorators.http import require_POST

from vinter.web.accounts import people
from vinter.web.accounts.forms import ConventionForm, EndForm, SignUpForm
from vinter.web.accounts.models import Convention, Invitation, may_sign_up, nobody_yet
from vinter.web.owned import outside, person
from vinter.web.security import field_base
from vinter.web.workflow import head

BACKEND = "django.contrib.auth.backends.ModelBackend"


class SignIn(LoginView):
    """The sign-in page; offers the demo where there is one, and the first account where there is none."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def get(self, request: HttpRequest) -> HttpResponseBase:  # type: ignore[override]
        """On an empty home the first to come makes the owner's account."""
        if not settings.DEMO and nobody_yet():
            return redirect("sign-up")
        return super().get(request)

    def get_context_data(self, **kwargs: object) -> dict[str, object]:
        """Whether there is a demo to enter, and whether an account can be made."""
        return {
            **super().get_context_data(**kwargs),
            "demo": settings.DEMO,
            "open": may_sign_up(""),
            "signed_out": "out" in self.request.GET,
            "field_base": field_base(self.request.GET.get("next", "")),
        }


class ChangePassword(PasswordChangeView):
    """A new password, with the old one."""

    template_name = "accounts/password.html"
    success_url = reverse_lazy("account")

    def get_context_data(self, **kwargs: object) -> dict[str, object]:
        """The head of the page."""
        return {**super().get_context_data(**kwargs), **head("")}


@login_not_required
def sign_up(request: HttpRequest) -> HttpResponse:
    """Make an account: the first one, by invitation, or where signing up is open."""
    code = request.POST.get("code", "") or request.GET.get("code", "")
    if not may_sign_up(code):
        return render(request, "accounts/closed.html", status=403)
    form = SignUpForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            user = people.add(form.cleaned_data["username"], form.cleaned_data["password1"], code)
        except people.Closed:  # somebody else was let in by it meanwhile
            return render(request, "accounts/closed.html", status=403)
        login(request, user, backend=BACKEND)
        return redirect("home")
    context = {"form": form, "code": code, "first": nobody_yet()}
    return render(request, "accounts/sign_up.html", context, status=400 if form.errors else 200)


def account(request: HttpRequest) -> HttpResponse:
    """One's own account: password, invitations to others, the end of it."""
    return render(
        request,
        "accounts/account.html",
        {
            "end": EndForm(person(request)),
            "invitations": [i for i in Invitation.objects.filter(owner=person(request)) if i.good],
            "link": outside(reverse("sign-up")),
            "others": people.others(request.user),  # type: ignore[arg-type]
            **head(""),
        },
    )


def figures(request: HttpRequest) -> HttpResponse:
    """Clock, units and language of dates."""
    own = Convention.objects.filter(owner=person(request)).first() or Convention(owner=person(request))
    form = ConventionForm(request.POST or None, instance=own)
    if request.method == "POST" and form.is_valid():
        form.save()
        return redirect("account")
    return render(request, "accounts/figures.html", {"form": form, **head("")})


@require_POST
def invite(request: HttpRequest) -> HttpResponse:
    """A new invitation; only whoever made this Vinter's first account invites."""
    if not request.user.is_staff:
        raise PermissionDenied("only the owner of this Vinter invites")
    Invitation.objects.create(owner=person(request))
    return redirect("account")


@require_POST
def hand_on(request: HttpRequest) -> HttpResponse:
    """Make somebody else an owner of this Vinter too; only an owner does."""
    if not request.user.is_staff:
        raise PermissionDenied("only the owner of this Vinter makes others owners")
    people.make_owner(people.person(request.POST.get("name", "")))
    return redirect("account")


@require_POST
def end(request: HttpRequest) -> HttpResponse:
    """Delete the account and everything in it."""
    form = EndForm(person(request), request.POST)
    if not form.is_valid():
        context = {"end": form, "invitations": [], **head("")}
        return render(request, "accounts/account.html", context, status=400)
    user = request.user
    people.delete(user)  # type: ignore[arg-type]
    logout(request)
    return redirect("sign-in")
