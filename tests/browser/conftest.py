"""A real browser on a live server: one browser for all tests, a page for each, whose faults are kept."""

from pathlib import Path

import pytest
from django.contrib.staticfiles.handlers import StaticFilesHandler
from playwright.sync_api import expect, sync_playwright

expect.set_options(timeout=20_000)  # a machine that does much else at once is slow, not wrong
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--host-resolver-rules=MAP home.test 127.0.0.1",  # this machine, as another one sees it: not localhost
]


@pytest.fixture(scope="package", autouse=True)
def own_assets():
    """The application serves its styles and scripts itself, as it does outside of tests."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(StaticFilesHandler, "_should_handle", lambda self, path: False)
        yield


@pytest.fixture(scope="package")
def browsers():
    """Browsers by the path of their program, each started when the first test asks for it."""
    started = {}
    with sync_playwright() as playwright:

        def browser(path):
            if path not in started:
                started[path] = playwright.chromium.launch(executable_path=path, args=FLAGS)
            return started[path]

        yield browser
        for one in started.values():
            one.close()


@pytest.fixture
def chromium(browsers, request):
    """The browser without a window, which takes half the work; the whole one where sensors are asked for, of
    which the other has none."""
    lean = Path("/usr/bin/chromium-headless-shell")
    return browsers(
        str(lean) if lean.is_file() and "phone" not in request.fixturenames else "/usr/bin/chromium"
    )


@pytest.fixture
def page(chromium, live_server, nerea, settings):
    settings.DEMO = True
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=live_server.url)
    page = context.new_page()
    page.faults = []
    page.on("console", lambda m: page.faults.append(m.text) if m.type == "error" else None)
    page.on("pageerror", lambda e: page.faults.append(str(e)))
    page.on(
        "request",
        lambda r: (
            None if r.url.startswith((live_server.url, "blob:", "data:")) else page.faults.append(r.url)
        ),
    )
    page.set_default_timeout(30_000)
    yield page
    context.close()


@pytest.fixture
def entered(page):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    yield page
    assert page.faults == []


@pytest.fixture
def phone(page):
    """A phone whose orientation can be given: turned(alpha, beta, gamma)."""
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    sensors = page.context.new_cdp_session(page)

    def turned(*angles):
        sensors.send(
            "DeviceOrientation.setDeviceOrientationOverride",
            dict(zip(("alpha", "beta", "gamma"), map(float, angles), strict=True)),
        )

    page.turned = turned
    return page
