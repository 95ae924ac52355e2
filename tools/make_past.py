"""Make the past that the demo opens with: four nights in the ledger, shot by the simulated phone, stacked,
finished.

usage: make_past.py [--anew | --looks]   (about five minutes; writes src/vinter/web/demo/past, which is
committed)

--looks only makes the recipes of its finishes by today's rules, from the pictures that are shipped.

It stops when what is shipped was made of the same nights: 12 MB of pictures that nobody can tell from the
last ones are not committed again. What older versions stored is brought up to date when it is read.

Everything goes through the application's own jobs in a home of its own; what is shipped is packed small:
previews, and pictures as lossy JPEG 2000 of the square root of their levels. The frames' originals are not
shipped: the same seeds give them again.
"""

import hashlib
import json
import multiprocessing
import os
import shutil
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from datetime import date
from pathlib import Path

ROOT = Path(__file__).parents[1]
OUT = ROOT / "src/vinter/web/demo/past"
PREVIEW_QUALITY, SQUEEZE_DB = 60, 50.0
SMALLER = 4  # the same of the frames' previews
REDUCED = 2  # px a side of the shipped pictures in one
# evening, site, title, minutes from the best one, turn in azimuth, what is set, faults, lesson, frames kept
# of a cloud
NIGHTS = (
    {
        "day": date(2026, 6, 13),
        "site": "Tide mill",
        "title": "Core over the mill, low water",
        "takes": [{"frames": 10}],
        "forecast_chance": 0.82,
        "came": "clear",
        "lesson": "Ten minutes more: at twenty frames the reeds would have held the brighter curve.",
        "finishes": ["Restrained", "Cool, a touch of magenta"],
    },
    {
        "day": date(2026, 7, 15),
        "site": "Sheepfold",
        "title": "The band over the fold",
        "pose": (24.0, 0.0),
        "takes": [{"frames": 6, "turn": t, "late": 100 * k} for k, t in enumerate((-30.0, 0.0, 30.0))],
        "forecast_chance": 0.91,
        "came": "clear",
        "lesson": "Thirty degrees between the fields is right for this lens; level it, less is cut.",
        "join": True,
        "finishes": ["As the night was"],
    },
    {
        "day": date(2026, 8, 11),
        "site": "Tide mill",
        "title": "Thirty seconds, because the phone allows it",
        "takes": [{"frames": 4, "shutter": 30.0}],
        "forecast_chance": 0.74,
        "came": "clear",
        "lesson": "Never 30 s with this lens: every star is a dash. Ten is the limit.",
    },
    {
        "day": date(2026, 9, 10),
        "site": "Sheepfold",
        "title": "Clouded out",
        "takes": [{"frames": 5, "faults": (("cloud", (1, 2, 3, 4)), ("dew", (3, 4)))}],
        "forecast_chance": 0.4,
        "came": "clouded",
        "lesson": "The forecast said 40 %: below 60 % the drive is not worth it. Take the dew heater.",
    },
)


def plan(user, told):
    """A shot of a night, planned as the pages do."""
    from vinter.core.camera.projection import Pose
    from vinter.core.planning.planned_with import snapshot
    from vinter.core.planning.shot import OwnSettings, plan_shot
    from vinter.core.sky.nights import nights
    from vinter.web.gear.models import Phone
    from vinter.web.nights.models import preferences_of
    from vinter.web.shots.models import Shot
    from vinter.web.sites.models import Site

    site = Site.objects.get(owner=user, name=told["site"])
    phone = Phone.objects.get(owner=user, key="marlet-7")
    lens = phone.core().lens("main")
    night = nights(site.core(), told["day"], told["day"])[0]
    moment = night.best.best.t
    first = told["takes"][0]
    own = OwnSettings(shutter=first.get("shutter"), frames=first["frames"])
    pose = Pose(180.0, told["pose"][0]) if "pose" in told else None
    found = plan_shot(site.core(), moment, lens, night, own=own, pose=pose)
    e = found.exposure
    return Shot.objects.create(
        owner=user,
        site=site,
        phone=phone,
        lens="main",
        title=told["title"],
        night=told["day"],
        moment=moment,
        iso=e.iso.chosen,
        shutter=e.shutter.chosen,
        frames=first["frames"],
        manual_settings={
            k: v for k, v in (("shutter", first.get("shutter")), ("frames", first["frames"])) if v
        },
        planned_with=snapshot(site.core(), lens, preferences_of(user).limits()),
        plan=found.data(),
        lesson=told["lesson"],
        forecast_chance={"chance": told["forecast_chance"], "error": 0.15},
        sky_came=told["came"],
        version="demo",
    )


def shoot(shot, told, number, context):
    """A take of a shot as told, measured."""
    from vinter.web.takes.models import Frame, Take
    from vinter.web.takes.tasks import measure_take
    from vinter.web.takes.work import shoot_frame

    title = shot.title if number is None else f"{shot.title}, field {number + 1}"
    faults = {name: told[name] for name in ("turn", "late", "faults") if name in told}
    take = Take.objects.create(
        owner=shot.owner,
        shot=shot,
        kind=Take.SIMULATED,
        title=title,
        seed=11,
        simulation_overrides=json.loads(json.dumps(faults)) | {"traffic": number is None},
    )
    take.previews.mkdir(parents=True)
    burst = replace(take.burst(), count=told["frames"])
    names = list(
        context.pool.map(shoot_frame, [burst] * burst.count, range(burst.count), [take.folder] * burst.count)
    )
    for i, name in enumerate(names):
        size = (take.folder / name).stat().st_size
        Frame.objects.create(take=take, name=name, stored=name, size=size, digest=f"simulated {i}")
    measure_take(take.pk, context)
    return take


def packed(source, out):
    """A stack's picture squeezed; the colour data beside it."""
    import cv2
    import imagecodecs
    import numpy as np
    import tifffile

    with tifffile.TiffFile(source) as file:
        rgb, description = file.asarray(), file.pages[0].description
    size = rgb.shape[1] // REDUCED, rgb.shape[0] // REDUCED
    rgb = cv2.resize(rgb, size, interpolation=cv2.INTER_AREA)
    mask = cv2.imread(str(source.with_suffix(".mask.png")), cv2.IMREAD_GRAYSCALE)
    cv2.imwrite(str(out.with_suffix(".mask.png")), cv2.resize(mask, size, interpolation=cv2.INTER_AREA))
    low, high = float(rgb.min()), float(rgb.max())
    root = np.sqrt((rgb - low) / (high - low))
    out.write_bytes(
        imagecodecs.jpeg2k_encode(
            np.round(root * 65535).astype(np.uint16), level=SQUEEZE_DB, codecformat="jp2"
        )
    )
    told = json.loads(description)
    told["field"] = smaller(told["field"], size) if told.get("field") else None
    return {"low": low, "high": high, "description": told}


def smaller(field, size):
    """A field of the picture reduced."""
    return {
        **field,
        "width": size[0],
        "height": size[1],
        "focal_px": field["focal_px"] / REDUCED,
        "scale_arcsec": field["scale_arcsec"] * REDUCED,
        "axis": [(v + 0.5) / REDUCED - 0.5 for v in field["axis"]],
        "targets": [[name, x / REDUCED, y / REDUCED] for name, x, y in field["targets"]],
    }


def form() -> str:
    """What the past is made of, to tell whether it has to be made again."""
    told = json.dumps(NIGHTS, default=str, sort_keys=True)
    return hashlib.sha256(f"{told} {PREVIEW_QUALITY} {SQUEEZE_DB} {SMALLER} {REDUCED}".encode()).hexdigest()


def with_todays_looks(book):
    """The past with the recipes of its finishes made again, from the pictures that are shipped."""
    os.environ.update(DJANGO_SETTINGS_MODULE="vinter.web.settings")
    sys.path.insert(0, str(ROOT / "src"))
    import django

    django.setup()
    from vinter.core.finish.looks import LOOKS
    from vinter.core.finish.scene import scene_of
    from vinter.web.demo.past import unpack
    from vinter.web.stacks.working import WORKING_PX

    make = dict(LOOKS.values())
    for told in (stack for row in book for stack in row["stacks"]):
        with tempfile.TemporaryDirectory() as folder:
            picture = Path(folder) / "stack.tif"
            unpack(OUT / f"{told['name']}.jp2", told["picture"], picture)
            scene = scene_of(picture, WORKING_PX)
        for finish in told["finishes"]:
            finish["recipe"] = make[finish["name"]](scene).model_dump(mode="json")
    return book


def main() -> None:
    if "--looks" in sys.argv:
        shipped = OUT / "past.json"
        shipped.write_text(json.dumps(with_todays_looks(json.loads(shipped.read_text()))))
        return
    made_of = OUT / "form.txt"
    if made_of.is_file() and made_of.read_text().strip() == form() and "--anew" not in sys.argv:
        print("The past is made of these nights already; --anew makes it all the same.")
        return
    home = tempfile.mkdtemp()
    os.environ.update(VINTER_HOME=home, DJANGO_SETTINGS_MODULE="vinter.web.settings")
    sys.path.insert(0, str(ROOT / "src"))
    import cv2
    import django

    django.setup()
    from django.contrib.auth import get_user_model
    from django.core.management import call_command

    from vinter.core.finish.looks import LOOKS
    from vinter.core.finish.scene import load_scene
    from vinter.web.demo.seed import seed
    from vinter.web.jobs.registry import JobContext
    from vinter.web.stacks.joining import run_join
    from vinter.web.stacks.models import Stack
    from vinter.web.stacks.tasks import run_stack
    from vinter.web.stacks.working import working_copy

    call_command("migrate", verbosity=0)
    seed()
    user = get_user_model().objects.get(username="nerea")
    shutil.rmtree(OUT, ignore_errors=True)
    OUT.mkdir(parents=True)
    book = []
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        context = JobContext(pool, lambda label, share: print(label, end="\r"), lambda: False)
        for n, told in enumerate(NIGHTS):
            shot = plan(user, told)
            fields = (
                "title",
                "lens",
                "moment",
                "iso",
                "shutter",
                "frames",
                "manual_settings",
                "optics",
                "planned_with",
                "plan",
                "lesson",
                "forecast_chance",
                "sky_came",
            )
            row = {
                "site": told["site"],
                "night": told["day"].isoformat(),
                "shot": {name: getattr(shot, name) for name in fields},
                "takes": [],
                "stacks": [],
            }
            made = []
            for k, one in enumerate(told["takes"]):
                take = shoot(shot, one, k if len(told["takes"]) > 1 else None, context)
                frames = []
                for frame in take.frame_set.all():
                    if told.get("join"):  # fields beside the plan's: its target is not meant to be in them
                        frame.measure = {**frame.measure, "verdict": "keep", "reasons": []}
                    stem = Path(frame.stored).stem
                    small = cv2.imread(str(take.previews / f"{stem}.small.jpg"))
                    cv2.imwrite(str(OUT / f"{n}-{k}-{stem}.small.jpg"), small, [1, 78])
                    full = cv2.imread(str(take.previews / f"{stem}.jpg"))
                    full = cv2.resize(
                        full, None, fx=1 / SMALLER, fy=1 / SMALLER, interpolation=cv2.INTER_AREA
                    )
                    cv2.imwrite(str(OUT / f"{n}-{k}-{stem}.jpg"), full, [1, PREVIEW_QUALITY])
                    frames.append(
                        {
                            "name": frame.name,
                            "stored": frame.stored,
                            "size": frame.size,
                            "digest": frame.digest,
                            "measure": frame.measure,
                            "frame_type": frame.frame_type,
                        }
                    )
                row["takes"].append(
                    {
                        "title": take.title,
                        "seed": take.seed,
                        "simulation_overrides": take.simulation_overrides,
                        "frames": frames,
                    }
                )
                if "finishes" not in told:
                    continue
                stack = Stack.objects.create(
                    owner=user, take=take, frames=[f.pk for f in take.stackable()], version="demo"
                )
                run_stack(stack.pk, context)
                stack.refresh_from_db()
                made.append((k, stack))
            if told.get("join"):
                joined = Stack.objects.create(
                    owner=user,
                    take=made[0][1].take,
                    kind=Stack.JOIN,
                    parts=[s.pk for _, s in made],
                    frames=[pk for _, s in made for pk in s.frames],
                    version="demo",
                )
                run_join(joined.pk, context)
                joined.refresh_from_db()
                made = [(0, joined)]
            for k, stack in made:
                name = f"{n}-stack"
                for part in ("before.jpg", "after.jpg", "small.jpg"):
                    if (stack.folder / part).is_file():
                        picture = cv2.imread(str(stack.folder / part))
                        if part != "small.jpg":
                            picture = cv2.resize(
                                picture, None, fx=1 / REDUCED, fy=1 / REDUCED, interpolation=cv2.INTER_AREA
                            )
                        cv2.imwrite(str(OUT / f"{name}.{part}"), picture, [1, PREVIEW_QUALITY])
                scene = load_scene(working_copy(stack))
                recipes = {label: make(scene).model_dump(mode="json") for label, make in LOOKS.values()}
                row["stacks"].append(
                    {
                        "take": k,
                        "method": stack.kind,
                        "name": name,
                        "report": stack.report,
                        "picture": packed(stack.picture, OUT / f"{name}.jp2"),
                        "finishes": [{"name": look, "recipe": recipes[look]} for look in told["finishes"]],
                    }
                )
            book.append(row)
            print(told["title"], "done")
    (OUT / "past.json").write_text(json.dumps(book))
    (OUT / "form.txt").write_text(form() + "\n")
    total = sum(p.stat().st_size for p in OUT.iterdir()) / 1e6
    print(f"{total:.1f} MB in {len(list(OUT.iterdir()))} files")
    shutil.rmtree(home)


if __name__ == "__main__":
    main()
