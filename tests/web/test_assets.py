"""Styles and scripts: every page names files that are there, under names that change with their content."""

import re

import pytest
from django.conf import settings
from django.contrib.staticfiles.storage import staticfiles_storage
from django.urls import reverse

from vinter.web.field.standalone import SCRIPTS, inlined

HASHED = re.compile(r"/static/[\w/.-]+\.[0-9a-f]{12}\.(?:js|css|svg|png)")
PAGES = (
    "home",
    "sites",
    "best",
    "preferences",
    "shots",
    "cards",
    "takes",
    "stacks",
    "finishes",
    "ledger",
    "gear",
)


def assets_of(text):
    return re.findall(r'(?:src|href)="(/static/[^"#]+)', text)


@pytest.mark.django_db
@pytest.mark.parametrize("name", PAGES)
def test_every_asset_of_a_page_is_there_under_a_hashed_name(desk, name):
    found = assets_of(desk.get(reverse(name)).content.decode())
    assert found and all(HASHED.fullmatch(address) for address in found)
    for address in set(found):
        answer = desk.get(address)
        assert answer.status_code == 200 and "immutable" in answer["Cache-Control"], address
        answer.close()


@pytest.mark.django_db
@pytest.mark.parametrize("name", ["card", "timer", "check", "pack"])
def test_field_pages_too(desk, shot, name):
    found = assets_of(desk.get(reverse(name, args=[shot.pk])).content.decode())
    assert found and all(HASHED.fullmatch(address) for address in found)


def test_scripts_import_each_other_under_hashed_names():
    folder = settings.STATIC_ROOT / "js"
    for name, exports in (
        ("field/timer.js", "./timer-moments"),
        ("planning/skyline.js", "./skyline-drawing"),
        ("bench/finish.js", "../shared/token"),
    ):
        path = folder / staticfiles_storage.stored_name(f"js/{name}").removeprefix("js/")
        imports = re.findall(r'from "(\.{1,2}/[^"]+)"', path.read_text())
        assert any(re.fullmatch(rf"{re.escape(exports)}\.[0-9a-f]{{12}}\.js", i) for i in imports)
        assert all((path.parent / i).is_file() for i in imports)


def test_no_script_is_a_stranger():
    """Every script is a page's own or imported by one, and there is none without a use."""
    texts = {p.name: p.read_text() for p in (settings.BASE / "static/js").rglob("*.js")}
    scripts = set(texts)
    pages = "\n".join(p.read_text() for p in (settings.BASE / "templates").rglob("*.html"))
    used = set(re.findall(r"js/\w+/([\w-]+\.js)", pages)) | {"field-worker.js"}
    used |= {i for text in texts.values() for i in re.findall(r'from "(?:\.|\.\./\w+)/([\w-]+\.js)"', text)}
    assert used == scripts


def test_no_script_finds_a_thing_by_its_colour():
    for path in (settings.BASE / "static/js").rglob("*.js"):
        for line in path.read_text().splitlines():
            looks_up = "querySelector" in line or "getAttribute" in line or "matches(" in line
            assert not (looks_up and re.search(r"#[0-9a-fA-F]{3,8}\b", line)), f"{path.name}: {line}"


def test_the_card_in_one_file_holds_no_import():
    text = inlined(SCRIPTS)
    assert "import " not in text and "export " not in text
    declared = re.findall(r"^(?:async )?function (\w+)|^const (\w+)", text, flags=re.MULTILINE)
    names = [a or b for a, b in declared]
    assert len(names) == len(set(names)) and {"moments", "startTimer", "startCard"} <= set(names)


@pytest.mark.django_db
def test_the_field_worker_is_asked_for_anew_and_the_manifest_points_to_the_cards(desk):
    worker = desk.get(reverse("field-worker"))
    assert worker["Cache-Control"] == "no-cache" and worker["Service-Worker-Allowed"] == "/field/"
    manifest = desk.get(reverse("field-manifest")).json()
    assert manifest["start_url"] == reverse("cards") and manifest["scope"] == "/"
    assert all(HASHED.fullmatch(icon["src"]) for icon in manifest["icons"])
    assert manifest["share_target"]["action"] == reverse("share")
