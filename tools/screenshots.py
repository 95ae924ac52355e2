"""Take the pictures in docs/screenshots from the demo data: a fresh home, the real server, a real walk.

usage: .venv/bin/python tools/screenshots.py    (needs chromium; about four minutes)
"""

import io
import os
import subprocess
import tempfile
import time
import urllib.request
from pathlib import Path

import numpy as np
from PIL import Image
from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).parents[1]
OUT = ROOT / "docs/screenshots"
PORT = 8799
QUALITY = 80  # of WebP: letters stay sharp, all pictures together stay under 1.5 MB
NOTICED = 40  # levels of 255 by which a pixel looks different, beyond what the encoder does
UNCHANGED = 0.004  # share of pixels that may look different in a picture of the same view
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
]


def take(page: Page, name: str) -> None:
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(700)
    keep(Image.open(io.BytesIO(page.screenshot())).convert("RGB"), OUT / f"{name}.webp")


def keep(picture: Image.Image, path: Path) -> bool:
    """Write a picture unless the one that is there shows the same, so that the repository does not grow by
    what only the encoder or a clock made different."""
    if path.is_file():
        there = Image.open(path).convert("RGB")
        if there.size == picture.size:
            off = np.abs(np.asarray(there, np.int16) - np.asarray(picture, np.int16)).max(axis=2)
            if (off > NOTICED).mean() < UNCHANGED:
                return False
    picture.save(path, "WEBP", quality=QUALITY, method=6)
    return True


def walk(page: Page) -> None:
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.get_by_text("Next window worth driving for").wait_for(
        timeout=60_000
    )  # a cold year is computed first
    take(page, "home")
    page.goto("/sites/")
    take(page, "sites")
    page.goto("/sites/1/horizon/")
    take(page, "horizon")
    page.goto("/sites/1/season/2027/")
    page.locator("#season").hover(position={"x": 400, "y": 290})
    take(page, "season")
    page.goto("/sites/1/skyline/?t=1812588300&pole=1")
    page.locator("#skyline[data-painted=yes]").wait_for()
    take(page, "skyline")
    page.goto("/sites/1/stand/?day=2027-06-09&height=9&gap=6&bearing=205&metres=60&farthest=400&portrait=1")
    take(page, "stand")
    page.goto("/sites/1/night/2027-06-09/")
    take(page, "night")
    page.locator("#plan").click()
    page.get_by_label("Frames").fill("24")
    page.get_by_label("Title").fill("Tide mill, the core at its highest")
    page.get_by_role("button", name="Keep this shot").click()
    take(page, "shot")
    address = page.url
    page.get_by_role("link", name="Open the field card").click()
    page.set_viewport_size({"width": 390, "height": 844})
    take(page, "card")
    card = page.url
    page.get_by_role("link", name="Point", exact=True).click()
    page.locator("body").press("ArrowRight")  # a desk has no sensors: the keys turn the phone
    take(page, "point")
    page.goto(card)
    page.get_by_role("link", name="Timer").click()
    take(page, "timer")
    page.set_viewport_size({"width": 1280, "height": 800})
    page.goto("/rehearse/")
    page.get_by_role("button", name="Begin").first.click()
    page.get_by_label("ISO").select_option("1600")
    page.get_by_label("Shutter, s").select_option(label="10")
    page.get_by_role("button", name="Press", exact=True).click()
    page.locator("#loupe").wait_for()
    take(page, "rehearse")
    page.goto(address)
    page.get_by_role("button", name="Let the simulated phone shoot it").click()
    page.get_by_role("button", name="Stack them").wait_for()
    page.keyboard.press("m")
    take(page, "take")
    page.get_by_role("button", name="Stack them").click()
    page.get_by_role("button", name="Finish it").wait_for()
    take(page, "stack")
    page.get_by_role("heading", name="Pictures of the report").evaluate("h => h.scrollIntoView()")
    take(page, "report")
    page.get_by_role("link", name="Side by side with another frame or stack").click()
    page.get_by_label("Second").select_option(index=2)
    take(page, "beside")
    page.go_back()
    page.go_back()
    page.get_by_role("link", name="Paint the mask by hand").click()
    page.get_by_role("radio", name="ground").check()
    page.locator("#paint").hover(position={"x": 180, "y": 120})
    page.mouse.down()
    page.mouse.move(500, 300, steps=6)
    page.mouse.up()
    page.locator("#paint[data-strokes='1']").wait_for()
    take(page, "paint")
    page.go_back()
    page.get_by_role("button", name="Finish it").click()
    page.locator("#picture[data-ready=full]").wait_for()
    take(page, "finish")
    page.locator(".rung summary", has_text="Export").first.click()
    page.get_by_role("button", name="Export", exact=True).click()
    page.locator("a", has_text="JPEG, ").wait_for(timeout=120_000)
    page.goto("/ledger/")
    take(page, "ledger")


def main() -> None:
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "VINTER_HOME": home, "VINTER_PORT": str(PORT)}
        server = subprocess.Popen([ROOT / "bin/demo"], env=environment, start_new_session=True)
        try:
            for _ in range(120):
                try:
                    urllib.request.urlopen(f"http://localhost:{PORT}/sign-in/", timeout=2)
                    break
                except OSError:
                    time.sleep(0.5)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
                context = browser.new_context(
                    viewport={"width": 1280, "height": 800}, base_url=f"http://localhost:{PORT}"
                )
                page = context.new_page()
                page.set_default_timeout(300_000)
                walk(page)
                browser.close()
        finally:
            os.killpg(server.pid, 15)
            server.wait()


if __name__ == "__main__":
    main()
