"""The forecast on the planning pages: a chance of its own, services that fail, files."""

import threading
from datetime import UTC, datetime

import pytest
from desk import said, upload
from django.urls import reverse

from vinter.web.forecast.models import CachedForecast as Forecast

pytestmark = pytest.mark.django_db
JUNE = 1812588300  # 2027-06-10 00:45 UTC


@pytest.fixture
def service(settings):
    """The stand-in forecast service, in a thread of its own."""
    from vinter.web.forecast.service import server

    desk = server(0)
    threading.Thread(target=desk.serve_forever, daemon=True).start()
    settings.FORECAST_URL = f"http://127.0.0.1:{desk.server_port}/"
    settings.DEMO = True
    yield settings.FORECAST_URL
    desk.shutdown()
    desk.server_close()


def soon():
    return datetime.now(UTC).timestamp() + 20 * 3600


def test_the_panel_gives_a_chance_apart_from_the_score(desk, mill, service):
    start = soon()
    page = said(
        desk.get(reverse("forecast-panel", args=[mill.pk]) + f"?start={start}&end={start + 4 * 3600}")
    )
    assert "chance of a clear sky" in page and "°C at the coldest" in page
    far = said(
        desk.get(
            reverse("forecast-panel", args=[mill.pk])
            + f"?start={start + 90 * 86400}&end={start + 91 * 86400}"
        )
    )
    assert "Too far ahead" in far and "chance of a clear sky" not in far


@pytest.mark.parametrize(("habit", "message"), [("fail", "answered 503"), ("late", "did not answer within")])
def test_a_failing_service_is_said_and_nothing_is_lost(desk, mill, service, monkeypatch, habit, message):
    from vinter.web.forecast import provider

    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": ""})
    before = Forecast.objects.get(site=mill)
    assert len(before.hours) == 240
    if habit == "late":
        monkeypatch.setattr(provider, "PATIENCE", 0.4)
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": habit})
    after = Forecast.objects.get(site=mill)
    assert message in after.failure and after.hours == before.hours
    page = said(desk.get(reverse("forecast", args=[mill.pk])))
    assert message in page and "Showing the previous run" in page and page.count("<tr>") > 5


def test_a_stale_run_and_a_service_that_is_gone(desk, mill, service, settings):
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": "stale"})
    assert "hours old. Ask again" in said(desk.get(reverse("forecast", args=[mill.pk])))
    settings.FORECAST_URL = "http://127.0.0.1:9/"
    desk.post(reverse("forecast-refresh", args=[mill.pk]), {"habit": ""})
    assert "could not be reached" in said(desk.get(reverse("forecast", args=[mill.pk])))


def test_a_forecast_file_is_taken_and_not_overwritten_by_itself(desk, mill, service):
    from vinter.core.forecast import write_csv
    from vinter.core.simulate.weather import weather

    text = write_csv(weather(10, 10, soon(), 48)).encode()
    desk.post(reverse("forecast-import", args=[mill.pk]), {"file": upload("mine.csv", text)})
    page = said(desk.get(reverse("forecast", args=[mill.pk])))
    assert "file mine.csv" in page
    assert said(desk.get(reverse("forecast-export", args=[mill.pk]))).encode() == text
    bad = desk.post(reverse("forecast-import", args=[mill.pk]), {"file": upload("mine.csv", b"time\n1\n")})
    assert (
        bad.status_code == 400
        and "cloud_low" in said(bad)
        and "file mine.csv" in said(desk.get(reverse("forecast", args=[mill.pk])))
    )


# --- owners
