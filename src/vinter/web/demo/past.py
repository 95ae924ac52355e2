"""The demo's past: four nights that are in the ledger when it opens, from what is shipped beside this
file."""

import json
import shutil
from datetime import date
from pathlib import Path

import cv2
import imagecodecs
import numpy as np
from django.contrib.auth.models import User

from vinter.core.stack.file import about_from, mask_of, write_stack
from vinter.core.versions import Data
from vinter.web.finish.models import Finish
from vinter.web.gear.models import Phone
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.stacks.learning import learn_site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

PAST = Path(__file__).parent / "past"
VERSION = "demo"


def add_past(user: User) -> None:
    """Give a person the past, once; what is left of it by then is not touched."""
    if not (PAST / "past.json").is_file() or Take.everything.filter(owner=user).exists():
        return
    phone = Phone.objects.get(owner=user, key="marlet-7")
    for n, row in enumerate(json.loads((PAST / "past.json").read_text())):
        site = Site.objects.get(owner=user, name=row["site"])
        shot = Shot.objects.create(
            owner=user,
            site=site,
            phone=phone,
            night=date.fromisoformat(row["night"]),
            version=VERSION,
            **row["shot"],
        )
        takes = [_take(user, shot, told, f"{n}-{k}") for k, told in enumerate(row["takes"])]
        for told in row["stacks"]:
            _stack(takes, told)


def _take(user: User, shot: Shot, told: Data, name: str) -> Take:
    named = {name: told[name] for name in ("title", "seed", "simulation_overrides")}
    take: Take = Take.objects.create(owner=user, shot=shot, kind=Take.SIMULATED, **named)
    shutil.rmtree(take.folder, ignore_errors=True)
    take.previews.mkdir(parents=True)
    for told_frame in told["frames"]:
        stem = Path(told_frame["stored"]).stem
        for end in (".jpg", ".small.jpg"):
            shutil.copyfile(PAST / f"{name}-{stem}{end}", take.previews / f"{stem}{end}")
        Frame.objects.create(take=take, **told_frame)
    return take


def _stack(takes: list[Take], told: Data) -> None:
    take = takes[told["take"]]
    kind = told["method"] if told["method"] in Stack.KINDS else Stack.BURST
    joined = kind == Stack.JOIN
    frames = [f for t in (takes if joined else [take]) for f in t.stackable()]
    one = Stack.objects.create(
        owner=take.owner,
        take=take,
        kind=kind,
        frames=[f.pk for f in frames],
        report=told["report"] | {"field": told["picture"]["description"]["field"]},
        version=VERSION,
    )
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    unpack(PAST / f"{told['name']}.jp2", told["picture"], one.picture)
    for part in ("before.jpg", "after.jpg", "small.jpg"):
        source = PAST / f"{told['name']}.{part}"
        if source.is_file():
            shutil.copyfile(source, one.folder / part)
    for finish in told["finishes"]:
        Finish.objects.create(owner=take.owner, stack=one, version=VERSION, **finish)
    if not joined:
        learn_site(one)


def unpack(source: Path, told: Data, out: Path) -> None:
    """A stack's picture from its squeezed form: square roots of levels between two bounds; its mask beside
    it."""
    root = imagecodecs.jpeg2k_decode(source.read_bytes()).astype(np.float32) / 65535
    rgb = np.asarray(root**2 * (told["high"] - told["low"]) + told["low"], np.float32)
    mask = cv2.imread(str(mask_of(source)), cv2.IMREAD_GRAYSCALE)
    write_stack(out, rgb, np.asarray(mask, np.uint8), about_from(json.dumps(told["description"])))
