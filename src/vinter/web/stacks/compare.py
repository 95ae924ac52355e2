"""Two to four frames or stacks side by side, at one angular scale and in the same stretch."""

from dataclasses import dataclass

from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.core.frames.comparison import PictureQuality, differences, quality, scale_of
from vinter.core.versions import Data
from vinter.web.conventions import dated
from vinter.web.forms import row_number
from vinter.web.owned import person
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.workflow import head

PLACES, LABELS = ("a", "b", "c", "d"), ("First", "Second", "Third", "Fourth")


@dataclass(frozen=True)
class Side:
    """One of them: its key in the address, name, picture, settings and what it shows."""

    key: str
    name: str
    of: str
    url: str
    settings: str
    quality: PictureQuality


def _of_frame(frame: Frame) -> Side:
    m = frame.measure or {}
    size = m["width"], m["height"]
    scale, words = scale_of(size, m.get("f35") or _planned_f35(frame.take))
    return Side(
        f"frame:{frame.pk}",
        frame.name,
        frame.take.title,
        reverse("preview", args=[frame.pk, "full"]),
        _settings(m),
        quality(
            size, scale, words, m["fwhm_px"], m["noise"], m["background"], m["stars"], m["kind"] == "bayer"
        ),
    )


def _planned_f35(take: Take) -> float | None:
    return take.shot.core_lens.f35 if take.shot else None


def _settings(m: Data) -> str:
    parts = [
        f"{m['exposure_s']:g} s" if m.get("exposure_s") else "",
        f"ISO {m['iso']}" if m.get("iso") else "",
    ]
    return ", ".join(p for p in parts if p) or "settings unknown"


def _of_stack(one: Stack) -> Side:
    report = one.report or {}
    frame = (
        Frame.objects.filter(pk__in=one.frames, name=report["reference"]).first()
        or Frame.objects.filter(pk__in=one.frames).first()
    )
    if frame is None or not frame.measure:
        raise BadInput(f"{one}: the frames it was made of are gone")
    m, field = frame.measure, report.get("field")
    size = m["width"], m["height"]
    scale, words = scale_of(
        size, m.get("f35") or _planned_f35(one.take), field["scale_arcsec"] if field else None
    )
    noise = m["noise"] / (report.get("noise_gain") or report.get("noise_expected") or 1.0)
    return Side(
        f"stack:{one.pk}",
        f"stack of {report['frames_used']}",
        one.take.title,
        reverse("stack-file", args=[one.pk, "after"]),
        f"{report['frames_used']} × {_settings(m)}",
        quality(
            size,
            scale,
            words,
            report.get("fwhm_stack") or m["fwhm_px"],
            noise,
            m["background"],
            m["stars"],
            m["kind"] == "bayer",
            report["frames_used"],
        ),
    )


def _side(request: HttpRequest, key: str) -> Side | None:
    """The thing a key of the address names, when it is the user's and can be shown."""
    kind, _, number = key.partition(":")
    pk = row_number(number)
    if pk is None:
        return None
    if kind == "frame":
        frame = (
            Frame.objects.filter(pk=pk, take__owner=person(request), measure__isnull=False)
            .select_related("take__shot")
            .first()
        )
        return _of_frame(frame) if frame else None
    one = (
        Stack.objects.filter(pk=pk, owner=person(request), report__isnull=False)
        .select_related("take__shot")
        .first()
    )
    return _of_stack(one) if kind == "stack" and one else None


def _choices(request: HttpRequest) -> list[tuple[str, list[tuple[str, str]]]]:
    """What can be compared, by take: its stacks, then its frames."""
    out = []
    for take in Take.objects.filter(owner=person(request)).prefetch_related("frame_set", "stack_set")[:40]:
        stacks = [
            (f"stack:{s.pk}", f"stack of {s.report['frames_used']}, {s.how}")
            for s in take.stack_set.all()
            if s.report
        ]
        frames = [(f"frame:{f.pk}", f.name) for f in take.frame_set.all() if f.measure]
        if stacks or frames:
            out.append((f"{take.title}, {dated(take.created, 'j M H:i')}", stacks + frames))
    return out


def compare(request: HttpRequest) -> HttpResponse:
    """Pictures side by side; with only one named, the choice of the other."""
    found = [_side(request, request.GET.get(place, "")) for place in PLACES]
    if found[0] and not any(found[1:]):
        found[1] = _likely(request, found[0])
    shown = [side for side in found if side]
    slots = [*shown, *[None] * max(2 - len(shown), 1)][: len(PLACES)]
    return render(
        request,
        "stacks/compare.html",
        {
            "shown": shown if len(shown) > 1 else [],
            "sides": list(zip(PLACES, LABELS, slots, strict=False)),
            "choices": _choices(request),
            "rows": _rows(shown) if len(shown) > 1 else [],
            "differences": _differences(shown),
            **head("Stack", context="Side by side"),
        },
    )


def _differences(shown: list[Side]) -> list[tuple[str, list[str]]]:
    """What differs from the first, by picture; with two of them, by their sides."""
    if len(shown) == 2:
        return [("", differences(shown[0].quality, shown[1].quality))]
    first = shown[0] if shown else None
    return [
        (
            f"{side.name}, against {first.name}",
            differences(first.quality, side.quality, "the first", "this one"),
        )
        for side in shown[1:]
        if first
    ]


def _rows(shown: list[Side]) -> list[tuple[str, str, list[object]]]:
    """The table: what a line is called, how its figures are written, and for each picture the figure."""
    return [
        ("Taken", "text", [side.settings for side in shown]),
        ("Scale, arcseconds a pixel", "1", [side.quality.scale for side in shown]),
        ("how it is known", "text", [side.quality.scale_from for side in shown]),
        ("Stars, arcminutes wide", "2", [side.quality.width for side in shown]),
        (
            "Grain: noise of a patch of sky 10′ square, of its brightness",
            "%",
            [s.quality.grain for s in shown],
        ),
        ("Stars found, a square degree", "number", [side.quality.density for side in shown]),
    ]


def _likely(request: HttpRequest, first: Side) -> Side | None:
    """What one most likely wants beside the first: the newest stack, else the newest frame of another
    take."""
    kind, number = first.key.split(":")
    mine = Q(pk=int(number)) if kind == "stack" else Q()
    stacks = Stack.objects.filter(owner=person(request), report__isnull=False)
    one = (stacks.exclude(mine) if kind == "stack" else stacks).select_related("take__shot").first()
    if one:
        return _of_stack(one)
    frames = Frame.objects.filter(
        take__owner=person(request), take__binned=None, measure__isnull=False
    ).select_related("take__shot")
    frame = frames.exclude(pk=int(number)).last()
    return _of_frame(frame) if frame else None
