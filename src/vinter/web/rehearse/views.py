"""The ladder of exercises and the simulated phone in the browser."""

from dataclasses import asdict, replace
from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from vinter.core.camera.iso import iso_stops
from vinter.core.camera.phones import Lens
from vinter.core.camera.shutter import SHUTTERS
from vinter.core.errors import BadInput
from vinter.core.formats.pictures import jpeg_bytes
from vinter.core.formats.whole import whole, write_image
from vinter.core.rehearse.coach import REHEARSED, Judgement, histogram, judge, judge_exercise
from vinter.core.rehearse.exercises import LADDER, exercise
from vinter.core.rehearse.outcome import after_leaving, after_press
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.modes import PhoneSettings, Shown, developed, loupe, press
from vinter.core.simulate.phone import SimulatedPhone
from vinter.web.compute import computed
from vinter.web.forms import checked
from vinter.web.owned import owned, person
from vinter.web.rehearse.forms import PlaceForm, SettingsForm
from vinter.web.rehearse.models import Rehearsal
from vinter.web.shots.models import Shot
from vinter.web.workflow import head

QUALITY = 88
KELVINS = (2800, 3200, 3600, 4000, 4400, 5200, 6000, 7000)


@lru_cache(maxsize=2)
def _standing(burst: Burst) -> SimulatedPhone:
    """The phone on its tripod, its ground drawn once for all test shots."""
    camera = SimulatedPhone(burst)
    _ = camera.ground
    return camera


def pressed(burst: Burst, wanted: PhoneSettings, seed: int) -> tuple[Shown, npt.NDArray[np.uint8]]:
    """One press of the release and its developed picture; for a process of the pool."""
    standing = _standing(replace(burst, iso=100, shutter=1.0, count=1, focus_error=0.0))
    shown = press(burst, wanted, standing, seed=seed)
    return shown, developed(shown)


def ladder(request: HttpRequest) -> HttpResponse:
    """The exercises, how far one has come, and one's own shots to rehearse."""
    goes = Rehearsal.objects.filter(owner=person(request))
    done = {e.key: [g for g in goes if g.exercise == e.key] for e in LADDER}
    rows = [(e, done[e.key], any(g.passed for g in done[e.key])) for e in LADDER]
    return render(
        request,
        "rehearse/ladder.html",
        {
            "rows": rows,
            "passed": sum(p for _, _, p in rows),
            "goes": goes[:12],
            "shots": Shot.objects.filter(owner=person(request))[:8],
            **head("Shot"),
        },
    )


@require_POST
def begin(request: HttpRequest, key: str) -> HttpResponse:
    """A new go at an exercise."""
    return redirect(
        "rehearsal", Rehearsal.objects.create(owner=person(request), exercise=exercise(key).key).pk
    )


def begin_shot(request: HttpRequest, pk: int) -> HttpResponse:
    """Rehearse a planned shot: go on with the last go, or begin one."""
    shot = owned(Shot, request, pk)
    shot.check_sun()
    under_way = Rehearsal.objects.filter(owner=person(request), shot=shot, ended=False).first()
    return redirect("rehearsal", (under_way or Rehearsal.objects.create(owner=person(request), shot=shot)).pk)


def _dials(lens: Lens) -> dict[str, list[float]]:
    return {
        "isos": [float(i) for i in iso_stops(lens)],
        "shutters": [s for s in SHUTTERS if s <= lens.shutter_max],
        "kelvins": list(map(float, KELVINS)),
        "ticks": list(map(float, range(13))),
        "delays": [0.0, 2.0, 3.0, 10.0],
        "lamps": [0.0, 1.0, 2.0, 4.0, 8.0],
    }


def rehearsal(request: HttpRequest, pk: int) -> HttpResponse:
    """The simulated phone: settings, release, picture, coach."""
    go = owned(Rehearsal, request, pk)
    burst = go.burst()
    return render(
        request,
        "rehearse/rehearsal.html",
        {
            "go": go,
            "lens": burst.lens,
            "phone": burst.model,
            "set": go.start(),
            "dials": _dials(burst.lens),
            "minutes": [1, 4],
            **head("Shot", shot=go.shot, context=go.title),
        },
    )


def _settings(request: HttpRequest, lens: Lens) -> PhoneSettings:
    given = checked(SettingsForm(lens.shutter_max, request.POST)).cleaned_data
    mode = given.pop("mode")
    return PhoneSettings(**given, raw=mode == "raw", automatic=float(mode) if mode.isdigit() else 0.0)


def _judged(go: Rehearsal, shown: Shown) -> Judgement:
    if go.ladder:
        return judge_exercise(shown, go.ladder)
    assert go.shot is not None
    return judge(shown, shown.burst.lens, go.shot.tolerance_px * REHEARSED)


@require_POST
def shoot(request: HttpRequest, pk: int) -> HttpResponse:
    """One test shot: render, judge, show."""
    go = owned(Rehearsal, request, pk)
    if go.ended or go.left < 1:
        raise BadInput("this rehearsal is over: begin another")
    burst = go.burst()
    wanted, seed = _settings(request, burst.lens), len(go.presses) + 1
    shown, picture = computed(("press", go.pk, seed, wanted), pressed, burst, wanted, seed)
    found = _judged(go, shown)
    go.folder.mkdir(parents=True, exist_ok=True)
    write_image(go.folder / "picture.jpg", picture, [cv2.IMWRITE_JPEG_QUALITY, QUALITY])
    with whole(go.folder / "mosaic.npy") as draft:
        np.save(draft, shown.mosaic)
    go.presses = [
        *go.presses,
        {
            "settings": asdict(shown.settings),
            "sentence": found.sentence,
            "change": found.change,
            "passed": found.passed,
            "figures": found.figures,
            "histogram": histogram(shown),
        },
    ]
    go.end(after_press(found, len(go.presses), go.left))
    return render(request, "rehearse/result.html", {"go": go, "lens": burst.lens})


@require_POST
def leave(request: HttpRequest, pk: int) -> HttpResponse:
    """Pack up: right on one night, wrong on the others."""
    go = owned(Rehearsal, request, pk)
    one = go.ladder
    if one is None or go.ended:
        raise BadInput("there is nothing to leave here")
    go.end(after_leaving(one.leave, [press["sentence"] for press in go.presses]))
    return redirect("rehearsal", go.pk)


def _shown(go: Rehearsal) -> Shown:
    path = go.folder / "mosaic.npy"
    if not path.is_file() or not go.presses:
        raise Http404("no picture yet")
    settings, burst = go.start(), go.burst()
    own = replace(burst, iso=settings.iso, shutter=settings.shutter, count=1)
    return Shown(np.load(path, mmap_mode="r"), own, SimulatedPhone(own).info(0), settings)


def picture(request: HttpRequest, pk: int) -> HttpResponse:
    """The last picture, as the phone's screen shows it."""
    path = owned(Rehearsal, request, pk).folder / "picture.jpg"
    if not path.is_file():
        raise Http404("no picture yet")
    return HttpResponse(path.read_bytes(), content_type="image/jpeg", headers={"Cache-Control": "no-store"})


def glass(request: HttpRequest, pk: int) -> HttpResponse:
    """A part of the last picture at 100 %; x and y are shares of its width and height."""
    go = owned(Rehearsal, request, pk)
    shown = _shown(go)
    given = checked(PlaceForm(request.GET)).cleaned_data
    x, y = (0.5 if given[k] is None else given[k] for k in ("x", "y"))
    rows, columns = shown.mosaic.shape
    part = loupe(shown, round(x * columns), round(y * rows))
    return HttpResponse(
        jpeg_bytes(part, 92), content_type="image/jpeg", headers={"Cache-Control": "no-store"}
    )
