"""All addresses: each room has its own list."""

from django.urls import include, path

ROOMS = (
    "home",
    "accounts",
    "demo",
    "gear",
    "sites",
    "satellites",
    "forecast",
    "nights",
    "skyline",
    "shots",
    "field",
    "rehearse",
    "takes",
    "stacks",
    "finish",
    "ledger",
    "jobs",
    "bin",
    "space",
    "archive",
)
urlpatterns = [path("", include(f"vinter.web.{room}.urls")) for room in ROOMS]
handler500 = "vinter.web.security.server_error"
