"""Signing in: by name and password, or with one button where demo data are served."""

from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from vinter.web.accounts.demo import DEMO_NAME


class SignIn(LoginView):
    """The sign-in page; offers the demo where there is one."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: Any) -> dict[str, Any]:
        """Whether there is a demo to enter."""
        return {**super().get_context_data(**kwargs), "demo": settings.DEMO}


@login_not_required
@require_POST
def enter_demo(request: HttpRequest) -> HttpResponse:
    """Sign in as the demo photographer; only where the demo is served."""
    if not settings.DEMO:
        raise Http404("no demo here")
    user = get_object_or_404(get_user_model(), username=DEMO_NAME)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return redirect("home")
