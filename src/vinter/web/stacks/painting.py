"""Painting over a stack: the sky mask, and which frame of a focus pair the ground is taken from.

Strokes are tried, then a new stack is made with what was painted.
"""

from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

import vinter
from vinter.core.errors import BadInput
from vinter.core.formats.whole import write_image
from vinter.core.json_input import read_json
from vinter.core.stack.file import read_stack
from vinter.core.stack.masking.brush import Stroke, chosen, painted
from vinter.web.compute import computed
from vinter.web.jobs.models import enqueue
from vinter.web.owned import owned, person
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame
from vinter.web.workflow import head

SHOWN = 1600  # px of width in which strokes are drawn and tried


def _strokes(text: str) -> list[Stroke]:
    rows = read_json(text, "strokes")
    if not isinstance(rows, list):
        raise BadInput("strokes: a list of points, radius and sky is wanted")
    try:
        return [
            Stroke(
                tuple((float(x), float(y)) for x, y in row["points"]),
                float(row["radius"]),
                bool(row["sky"]),
                int(row.get("frame", 0)),
            )
            for row in rows
        ]
    except (ValueError, TypeError, KeyError, AttributeError, OverflowError) as error:
        raise BadInput(f"strokes: a list of points, radius and sky is wanted ({error})") from error


def grown(picture: Path, strokes: list[Stroke], small: bool) -> "npt.NDArray[np.uint8]":
    """The mask of a stack's picture after strokes in the shown size, at that size or full; for a process of
    the pool."""
    rgb, mask, _ = read_stack(picture)
    bright = np.ascontiguousarray(np.maximum(rgb[..., 1], 0))
    scale = rgb.shape[1] / SHOWN
    if small:
        size = (SHOWN, round(rgb.shape[0] / scale))
        bright, mask = (
            cv2.resize(bright, size, interpolation=cv2.INTER_AREA),
            cv2.resize(mask, size, interpolation=cv2.INTER_AREA),
        )
    else:
        strokes = [s.scaled(scale) for s in strokes]
    return painted(np.asarray(mask, np.uint8), strokes, np.asarray(bright, np.float32))


def _grown(one: Stack, strokes: list[Stroke], small: bool) -> "npt.NDArray[np.uint8]":
    if not one.picture.is_file():
        raise BadInput("this stack has no picture to paint over")
    key = ("paint", one.pk, one.picture.stat().st_mtime_ns, tuple(strokes), small)
    return computed(key, grown, one.picture, strokes, small)


def _grounds(one: Stack) -> list[Frame]:
    """The ground frames that can be painted from: those of a focus pair."""
    return one.ground_frames if one.ground == "focus" else []


def _joint(one: Stack, strokes: list[Stroke]) -> "npt.NDArray[np.uint8] | None":
    """Which ground frame is taken where, after strokes in the shown size; None when none was painted."""
    if not strokes:
        return None
    most = len(_grounds(one))
    if any(s.frame > most for s in strokes):
        raise BadInput(f"strokes: this stack has {most} ground frames to paint from")
    shape = read_stack(one.picture)[0].shape[:2]
    before = cv2.imread(str(one.own_join), cv2.IMREAD_GRAYSCALE) if one.own_join.is_file() else None
    if before is None or before.shape != shape:
        before = np.zeros(shape, np.uint8)
    return chosen(np.asarray(before, np.uint8), [s.scaled(shape[1] / SHOWN) for s in strokes])


def paint(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; by POST a new stack with the painted mask."""
    one = owned(Stack, request, pk)
    if one.lucky:
        raise BadInput(f"{one}: a disc has no ground to be painted")
    if one.of_a_bracket:
        raise BadInput(f"{one}: develop its reference frame by itself to paint a mask")
    if one.joined:
        raise BadInput(f"{one}: paint the masks of the stacks it is joined of, then join them again")
    if request.method != "POST":
        return render(
            request,
            "stacks/paint.html",
            {
                "stack": one,
                "shown": SHOWN,
                "grounds": _grounds(one),
                **head("Stack", stack=one, context=one.take.title),
            },
        )
    strokes = _strokes(request.POST.get("strokes", ""))
    by_hand = any(not s.frame for s in strokes)
    mask = _grown(one, strokes, small=False) if by_hand else None
    joint = _joint(one, [s for s in strokes if s.frame])
    new = Stack.objects.create(
        owner=person(request),
        take=one.take,
        options=one.options,
        ground=one.ground,
        frames=one.frames,
        painted=by_hand or one.painted,
        version=vinter.__version__,
    )
    new.keep_painted(one)
    if mask is not None:
        write_image(new.own_mask, mask)
    if joint is not None:
        write_image(new.own_join, joint)
    enqueue(person(request), "stack", new.pk)
    return redirect("stack", new.pk)


@require_POST
def attempt(request: HttpRequest, pk: int) -> HttpResponse:
    """What strokes would make of the mask, as PNG at the shown size."""
    one = owned(Stack, request, pk)
    _, data = cv2.imencode(".png", _grown(one, _strokes(request.POST.get("strokes", "")), small=True))
    return HttpResponse(data.tobytes(), content_type="image/png", headers={"Cache-Control": "no-store"})
