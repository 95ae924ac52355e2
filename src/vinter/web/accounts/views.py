"""Signing in: by name and password, or with one button where demo data are served."""

from typing import Any

from django.conf import settings
from django.contrib.auth.views import LoginView


class SignIn(LoginView):
    """The sign-in page; offers the demo where there is one."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: Any) -> dict[str, Any]:
        """Whether there is a demo to enter."""
        return {**super().get_context_data(**kwargs), "demo": settings.DEMO}
