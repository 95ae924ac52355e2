"""Make eight likely changes, one at a time, on a copy, and see whether the application shows each.

    python tools/likely_changes.py

For every change the files touched are counted: a new kind of something is one registration in one file, a new
column of the database one more for its migration. Exit status 1 when a change does not show or touches more.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
CORE = "src/vinter/core"


@dataclass(frozen=True)
class Change:
    """Edits as (file, text to put ours behind, ours); an empty text makes a new file. ``shows`` is Python
    that raises when the change cannot be seen; ``page`` gives a page's text to it."""

    name: str
    edits: tuple[tuple[str, str, str], ...]
    shows: str
    migration: str = ""


CHANGES = (
    Change(
        "a school of the Moon",
        (
            (
                f"{CORE}/sky/thresholds.py",
                "SCHOOLS: dict[str, SchoolKind] = {\n",
                '    "half_moon": SchoolKind(lambda facts, limits: '
                'School("Less than half lit", '
                "facts.lit_percent < 50, facts.lit_percent, 50, "
                'f"{facts.lit_percent:.0f} %"), "half Moon"),\n',
            ),
        ),
        'assert "Less than half lit" in page("night", 1, "2027-06-09")\n'
        'assert ">half Moon<" in page("season", 1, 2027, school="half_moon")',
    ),
    Change(
        "a kind of file to export",
        (
            (
                f"{CORE}/finish/export.py",
                "EXPORT_KINDS: dict[str, ExportKind] = {\n",
                '    "webp": ExportKind("WebP", (".webp",), "image/webp", lambda out, c, info: '
                "cv2.imwrite(str(out), to_8bit(c)[..., ::-1]) and None),\n",
            ),
        ),
        "from vinter.web.finish.forms import ExportForm\n"
        'assert "WebP" in str(ExportForm()) and ExportForm({"kind": "webp"}).is_valid()',
    ),
    Change(
        "a move of the edit with a place to click",
        (
            (
                f"{CORE}/finish/moves/vignette.py",
                "",
                '"""Darkening away from a place."""\n\n'
                "from vinter.core.finish.canvas import Canvas\n"
                "from vinter.core.finish.moves.base import Move, Row, Shown, move, setting\n"
                "from vinter.core.finish.scene import Scene\n\n"
                'EDGES = Row("Edges", 80)\n\n\n'
                '@move("edges", place=55)\n'
                "class Edges(Move):\n"
                '    """Darkening in EV at the edges, about a centre."""\n\n'
                '    strength: float = setting(0.0, Shown("darkened", "EV", EDGES, "sky"), ge=0, le=2)\n'
                '    x: float = setting(0.5, Shown("", "", EDGES, "sky", click="Click the middle"), '
                "ge=0, le=1)\n"
                "    y: float = setting(0.5, ge=0, le=1)\n\n"
                "    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:\n"
                '        """Unchanged here."""\n'
                "        return canvas\n",
            ),
        ),
        "from vinter.core.finish.controls import lines\n"
        "from vinter.core.finish.recipe import Recipe, parse_recipe\n"
        'line = next(line for line in lines(Recipe()) if line.name == "Edges")\n'
        'assert line.click_path == "edges" and line.sky[0].high == 2\n'
        'parse_recipe(\'{"version": 2, "edges": {"strength": 1}}\')',
    ),
    Change(
        "a correction that RAW files carry",
        (
            (
                f"{CORE}/frames/opcodes.py",
                "OPCODES: dict[int, tuple[str, Handler]] = {\n",
                '    99: ("a correction of tomorrow", _not_applied),\n',
            ),
        ),
        "from vinter.core.frames.opcodes import OPCODES\nassert 99 in OPCODES",
    ),
    Change(
        "a kind of picture",
        (
            (
                f"{CORE}/planning/modes/aurora.py",
                "",
                '"""Aurora."""\n\n'
                "from vinter.core.planning.modes.basis import Basis, ModePlan, Option, mode\n"
                "from vinter.core.planning.modes.basis import storage, usual\n\n\n"
                '@mode("aurora", "Aurora", Option("seconds", "Shutter, s", 4, 1, 20), place=95)\n'
                "def aurora(b: Basis, o: dict[str, float]) -> ModePlan:\n"
                '    """Short frames."""\n'
                "    _, iso, n = usual(b)\n"
                '    return ModePlan(shutter=o["seconds"], iso=iso, frames=n, interval=o["seconds"] + 1, '
                "figures=[storage(b, n)])\n",
            ),
        ),
        'text = page("shot-new", 1, t=1812588300, mode="aurora", lens="1:main", use="screen")\n'
        'assert "Aurora" in text and "Shutter, s" in text and "o_seconds" in text',
    ),
    Change(
        "a danger of a site",
        (
            (
                f"{CORE}/field/hazards.py",
                "HAZARDS: dict[str, Hazard] = {\n",
                '    "ice": Hazard("ice", "Spikes for the boots"),\n',
            ),
        ),
        "from vinter.web.shots.models import Shot\n"
        'shot = Shot.objects.earliest("pk")\nshot.site.hazards = ["ice"]\nshot.site.save()\n'
        'assert "Spikes" in page("pack", shot.pk) and "Known here: ice" in page("card", shot.pk)\n'
        'assert "ice" in page("site", shot.site_id)',
    ),
    Change(
        "a use of pictures with its own tolerance of trails",
        (
            (
                f"{CORE}/camera/shutter.py",
                "USES = {",
                '"wall": Use("Wall-sized print", 1.0), ',
            ),
        ),
        'query = {"t": 1812588300, "use": "wall", "lens": "1:main", "mode": "stack"}\n'
        'assert "Wall-sized print" in page("shot-new", 1, **query)',
    ),
    Change(
        "a column of a site",
        (
            (
                "src/vinter/web/sites/models.py",
                "    favourite = models.BooleanField(default=False)\n",
                "    surface = models.CharField(max_length=40, blank=True, default='')\n",
            ),
        ),
        'from vinter.web.sites.models import Site\nSite.objects.update(surface="sand")',
        migration="sites",
    ),
)
PRELUDE = """
import django
django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
call_command("seed_demo", verbosity=0)
call_command("collectstatic", verbosity=0, interactive=False)
from django.contrib.auth import get_user_model
from django.test import Client
from django.urls import reverse
browser = Client(headers={"host": "localhost"})
browser.force_login(get_user_model().objects.get())
def page(name, *args, **query):
    answer = browser.get(reverse(name, args=args), query)
    assert answer.status_code == 200, (name, answer.status_code, answer.content[:300])
    return answer.content.decode()
"""


def tried(change: Change, copy: Path) -> tuple[int, str]:
    """Files touched by a change on a copy, and why it does not show (empty when it does)."""
    touched = set()
    for name, behind, ours in change.edits:
        path = copy / name
        text = path.read_text() if path.exists() else ""
        if behind not in text or (not behind and text):
            return len(touched), f"{name}: its place was not found"
        path.write_text(text.replace(behind, behind + ours, 1) if behind else ours)
        touched.add(name)
    environment = {
        **os.environ,
        "PYTHONPATH": str(copy / "src"),
        "VINTER_HOME": str(copy / "var"),
        "DJANGO_SETTINGS_MODULE": "vinter.web.settings",
    }

    def run(*command: str) -> str:
        done = subprocess.run(
            [sys.executable, *command], cwd=copy, env=environment, capture_output=True, text=True, check=False
        )
        return done.stderr.strip().splitlines()[-1] if done.returncode else ""

    if change.migration:
        why = run("-m", "django", "makemigrations", change.migration, "--name", "tried")
        if why:
            return len(touched), why
        touched.add(f"{change.migration}/migrations")
    return len(touched), run("-c", PRELUDE + change.shows)


def main() -> int:
    """Try all; 1 when one does not show, or touches more than one file and its migration."""
    failed = 0
    for change in CHANGES:
        with tempfile.TemporaryDirectory() as folder:
            copy = Path(folder)
            shutil.copytree(ROOT / "src", copy / "src", ignore=shutil.ignore_patterns("__pycache__"))
            count, why = tried(change, copy)
        allowed = 2 if change.migration else 1
        bad = bool(why) or count > allowed
        failed += bad
        print(
            f"{count} file{'s' if count > 1 else ''}  {change.name}{'  FAILS: ' + why if why else ''}",
            flush=True,
        )
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
