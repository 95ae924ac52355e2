"""Two frames or stacks side by side, at one angular scale and in the same stretch."""

from dataclasses import dataclass
from typing import Any

from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.core.frames.comparison import PictureQuality, differences, quality, scale_of
from vinter.web.forms import row_number
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.workflow import head


@dataclass(frozen=True)
class Side:
    """One of the two: its key in the address, name, picture, settings and what it shows."""

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


def _settings(m: dict[str, Any]) -> str:
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
            Frame.objects.filter(pk=pk, take__owner=request.user, measure__isnull=False)
            .select_related("take__shot")
            .first()
        )
        return _of_frame(frame) if frame else None
    one = (
        Stack.objects.filter(pk=pk, owner=request.user, report__isnull=False)
        .select_related("take__shot")
        .first()
    )
    return _of_stack(one) if kind == "stack" and one else None


def _choices(request: HttpRequest) -> list[tuple[str, list[tuple[str, str]]]]:
    """What can be compared, by take: its stacks, then its frames."""
    out = []
    for take in Take.objects.filter(owner=request.user).prefetch_related("frame_set", "stack_set")[:40]:
        stacks = [
            (f"stack:{s.pk}", f"stack of {s.report['frames_used']}, {s.method}")
            for s in take.stack_set.all()
            if s.report
        ]
        frames = [(f"frame:{f.pk}", f.name) for f in take.frame_set.all() if f.measure]
        if stacks or frames:
            out.append((f"{take.title}, {take.created:%-d %b %H:%M}", stacks + frames))
    return out


def compare(request: HttpRequest) -> HttpResponse:
    """Two pictures side by side; with only one named, the choice of the other."""
    sides = [_side(request, request.GET.get(k, "")) for k in ("a", "b")]
    if sides[0] and not sides[1]:
        sides[1] = _likely(request, sides[0])
    a, b = sides
    words = differences(a.quality, b.quality) if a and b else []
    return render(
        request,
        "stacks/compare.html",
        {
            "a": a,
            "b": b,
            "sides": [("a", "Left", a), ("b", "Right", b)],
            "choices": _choices(request),
            "differences": words,
            **head("Stack", context="Side by side"),
        },
    )


def _likely(request: HttpRequest, first: Side) -> Side | None:
    """What one most likely wants beside the first: the newest stack, else the newest frame of another
    take."""
    kind, number = first.key.split(":")
    mine = Q(pk=int(number)) if kind == "stack" else Q()
    stacks = Stack.objects.filter(owner=request.user, report__isnull=False)
    one = (stacks.exclude(mine) if kind == "stack" else stacks).select_related("take__shot").first()
    if one:
        return _of_stack(one)
    frames = Frame.objects.filter(
        take__owner=request.user, take__binned=None, measure__isnull=False
    ).select_related("take__shot")
    frame = frames.exclude(pk=int(number)).last()
    return _of_frame(frame) if frame else None
