"""A new person on an empty home, without the demo: from signing up to a picture, and with all of it to
another machine."""

import os
import re
from pathlib import Path

import pytest
from playwright.sync_api import expect
from served import Served
from starfield import Field, make

LONG = 120_000
NAME, PASSWORD = "mirek", "seven owls over the quarry"


@pytest.fixture
def homes(tmp_path):
    """Two homes on which nothing was ever done, each served."""

    def begun(name):
        (tmp_path / name).mkdir()
        return Served(
            {
                **{k: v for k, v in os.environ.items() if not k.startswith(("VINTER_", "PYTEST"))},
                "VINTER_HOME": str(tmp_path / name),
                "VINTER_WORKERS": "2",
                "VINTER_SPARE_MB": "50",
                "VINTER_COMPUTE": "1",
                "DJANGO_SETTINGS_MODULE": "vinter.web.settings",
                "PYTHONPATH": str(Path(__file__).parents[2] / "src"),
            },
            wait=False,
        )

    served = [begun(name) for name in ("first", "second")]
    for one in served:
        one.answers()
    yield served
    for one in served:
        one.stop()


def signed_up(chromium, served, faults, clicks=None):
    """A page of a browser in which somebody made the first account; ``clicks`` counts what is clicked."""
    context = chromium.new_context(
        viewport={"width": 1280, "height": 800},
        base_url=f"http://127.0.0.1:{served.port}",
        accept_downloads=True,
    )
    if clicks is not None:
        context.expose_function("counted", lambda: clicks.__setitem__(0, clicks[0] + 1))
        context.add_init_script("addEventListener('click', (e) => e.isTrusted && counted(), true)")
    page = context.new_page()
    page.on("console", lambda m: faults.append(m.text) if m.type == "error" else None)
    page.on("pageerror", lambda e: faults.append(str(e)))
    page.set_default_timeout(30_000)
    page.goto("/")
    page.get_by_label("Name").fill(NAME)
    page.get_by_label("Password", exact=True).fill(PASSWORD)
    page.get_by_label("Password confirmation").fill(PASSWORD)
    page.get_by_role("button", name="Make it").click()
    return page


@pytest.mark.long("a person's whole path on two machines, with simulated frames and their stack")
def test_from_an_empty_home_to_a_picture_and_to_another_machine(chromium, homes, tmp_path):
    faults, clicks = [], [0]
    page = signed_up(chromium, homes[0], faults, clicks)

    # three questions, and the next good night at once
    expect(page.locator("h1")).to_have_text("When is your next good night?")
    page.get_by_label("Where are you?").fill("37.6, -8.7")
    page.get_by_label("Which phone?").select_option(label="Marlet 7")
    page.get_by_role("button", name="Show me the night").click()
    expect(page.locator("h1")).to_contain_text(re.compile(r"\d{4}"))
    expect(page.locator("aside").get_by_text("usable").first).to_be_visible()

    # a shot of it, its card
    page.get_by_role("link", name=re.compile("Plan a shot for")).click()
    page.get_by_label("Title").fill("Core over the quarry")
    page.get_by_role("button", name="Keep this shot").click()
    page.get_by_role("link", name="Open the field card").click()
    expect(page.get_by_text("Main lens, RAW on").first).to_be_visible()
    page.get_by_role("link", name="Desk (bright)").click()

    # own frames
    frames = tmp_path / "card"
    frames.mkdir()
    make(frames, Field(count=4, width=1200, height=900, stars=300, focal=900.0))
    page.get_by_role("button", name="Add your own frames").click()
    page.locator("#files").set_input_files(sorted(frames.glob("*.dng")))
    expect(page.get_by_role("button", name="Stack them")).to_be_visible(timeout=LONG)
    expect(page.locator(".frame")).to_have_count(4)

    # stack, finish, a picture
    page.get_by_role("button", name="Stack them").click()
    page.get_by_role("button", name="Finish it").click(timeout=LONG)
    expect(page.locator("#picture[data-ready=full]")).to_be_visible(timeout=LONG)
    page.locator(".rung summary", has_text="Export").first.click()
    page.get_by_role("button", name="Export", exact=True).click()
    expect(page.get_by_role("link", name=re.compile("JPEG, 1200 × 900"))).to_be_visible(timeout=LONG)
    assert 8 <= clicks[0] <= 25, clicks  # from the empty home to the picture
    ledger = page.request.get("/ledger/ledger.csv").text()
    assert "Core over the quarry" in ledger and ",4," in ledger

    # the archive, and into the second home
    page.goto("/account/")
    page.get_by_role("link", name="Archive", exact=True).click()
    page.get_by_role("button", name="Make an archive").click()
    link = page.get_by_role("link", name=re.compile("Archive of"))
    expect(link).to_be_visible(timeout=LONG)
    with page.expect_download() as download:
        link.click()
    download.value.save_as(tmp_path / "all.zip")
    page.screenshot(path=os.environ.get("SHOT_ARCHIVE", tmp_path / "archive.png"))
    page.goto("/space/")
    expect(page.get_by_text("Can be worked out again").first).to_be_visible()
    page.screenshot(path=os.environ.get("SHOT_SPACE", tmp_path / "space.png"))

    other = signed_up(chromium, homes[1], faults)
    expect(other.locator("h1")).to_have_text("When is your next good night?")
    other.goto("/account/archive/")
    other.get_by_label(re.compile("An archive of Vinter")).set_input_files(tmp_path / "all.zip")
    other.get_by_role("button", name="Bring it in").click()
    expect(other.get_by_text("Brought in on")).to_be_visible(timeout=LONG)
    assert other.request.get("/ledger/ledger.csv").text() == ledger
    assert other.request.get("/ledger/ledger.json").text() == page.request.get("/ledger/ledger.json").text()
    other.get_by_role("link", name="Ledger", exact=True).click()
    expect(other.get_by_text("Core over the quarry").first).to_be_visible()
    expect(other.get_by_alt_text("The finished picture")).to_be_visible()
    other.get_by_role("link", name=re.compile("4 used")).first.click()
    other.get_by_role("button", name="Finish it").click()
    expect(other.locator("#picture[data-ready=full]")).to_be_visible(timeout=LONG)
    assert not faults
    for one in (page, other):
        one.context.close()
