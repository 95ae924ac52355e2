"""The door to the demo: one button where demo data are served."""

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from vinter.web.demo.seed import DEMO_NAME


@login_not_required
@require_POST
def enter_demo(request: HttpRequest) -> HttpResponse:
    """Sign in as the demo photographer; only where the demo is served."""
    if not settings.DEMO:
        raise Http404("no demo here")
    user = get_object_or_404(get_user_model(), username=DEMO_NAME)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return redirect("home")
