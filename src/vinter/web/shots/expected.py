"""What a shot would give: pictures of one frame and of the stack, and what more frames, another shutter or
another night would buy."""

from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlencode

from django import forms
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.camera.frame_count import MOST_FRAMES
from vinter.core.camera.iso import choose_iso
from vinter.core.camera.shutter import SHUTTERS
from vinter.core.errors import BadInput
from vinter.core.formats.pictures import jpeg_bytes
from vinter.core.planning.picture import plan_picture
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.expected import PART, finished, finished_part, part_of, whole
from vinter.core.sky.nights import evening_of
from vinter.core.sky.sun_safety import check_sun
from vinter.web.byte_cache import ByteCache
from vinter.web.compute import PATIENT_SECONDS, remembered
from vinter.web.forms import checked
from vinter.web.owned import owned
from vinter.web.shots.models import Shot

SIDEREAL_DAY = 86164.09  # s; after this long the same stars stand in the frame
MOST_DAYS = 15
QUALITY = 90
PICTURES = ByteCache(24 * 2**20)


class TrialForm(forms.Form):
    """What is tried on the shot: frames, shutter and nights later; which part is shown."""

    frames = forms.IntegerField(min_value=1, max_value=MOST_FRAMES, required=False, label="Frames")
    step = forms.IntegerField(min_value=0, max_value=60, required=False, label="Shutter")
    days = forms.IntegerField(min_value=-MOST_DAYS, max_value=MOST_DAYS, required=False, label="Nights later")
    pixels = forms.BooleanField(required=False, label="At 100 %")
    show = forms.ChoiceField(choices=[("frame", "frame"), ("stack", "stack")], required=False)


@dataclass(frozen=True)
class Trial:
    """A shot with other frames, another shutter, another night."""

    shot: Shot
    frames: int
    shutter: float
    days: int
    pixels: bool

    @property
    def unix(self) -> float:
        """The minute at which the same stars stand in the frame."""
        return self.shot.moment + self.days * SIDEREAL_DAY

    @property
    def iso(self) -> int:
        """The shot's ISO, or that of another shutter under its sky."""
        if self.shutter == self.shot.shutter:
            return self.shot.iso
        return choose_iso(self.shot.core_lens, float(self.shot.plan["at"]["brightness"]), self.shutter).chosen

    @property
    def burst(self) -> Burst:
        """What the simulated phone is told."""
        return replace(
            self.shot.burst(self.shot.pk),
            start=self.unix,
            count=self.frames,
            shutter=self.shutter,
            iso=self.iso,
            traffic=False,
        )

    @property
    def place(self) -> tuple[int, int]:
        """First pixel of the part that is shown at full size: just above the centre of the frame."""
        lens = self.shot.core_lens
        wide, high = (lens.height, lens.width) if self.shot.portrait else (lens.width, lens.height)
        return (wide - PART[0]) // 2, round(0.42 * high) - PART[1] // 2

    def query(self, show: str) -> str:
        """The address part of one of its pictures."""
        return urlencode(
            {
                "frames": self.frames,
                "step": steps(self.shot).index(self.shutter),
                "days": self.days,
                "pixels": "on" if self.pixels else "",
                "show": show,
            }
        )


def steps(shot: Shot) -> list[float]:
    """Shutters to try, s: the dial within the lens, with the shot's own."""
    longest = shot.core_lens.shutter_max
    return sorted({*(float(s) for s in SHUTTERS if 1 <= s <= longest), float(shot.shutter)})


def _trial(request: HttpRequest, shot: Shot) -> tuple[Trial, str]:
    given = checked(TrialForm(request.GET)).cleaned_data
    dial, step = steps(shot), given["step"]
    shutter = shot.shutter if step is None else dial[min(step, len(dial) - 1)]
    trial = Trial(shot, given["frames"] or shot.frames, shutter, given["days"] or 0, given["pixels"])
    return trial, given["show"] or "stack"


def pictures(burst: Burst, place: tuple[int, int] | None) -> tuple[bytes, bytes]:
    """JPEG of one frame and of the stack, whole or from ``place`` on at full size."""
    frame, stack, recipe, scene = finished(whole(burst))
    if place is not None:
        lens = burst.lens
        size = (lens.height, lens.width) if burst.portrait else (lens.width, lens.height)
        shares = (place[0] / size[0], place[1] / size[1], PART[0] / size[0], PART[1] / size[1])
        frame, stack = finished_part(part_of(burst, *place), recipe, scene, shares)
    return jpeg_bytes(frame, QUALITY), jpeg_bytes(stack, QUALITY)


def expected_picture(request: HttpRequest, pk: int) -> HttpResponse:
    """One of the pictures."""
    trial, show = _trial(request, owned(Shot, request, pk))
    aim = trial.shot.pose
    check_sun(trial.shot.site.core(), trial.unix, [(aim.altitude, aim.azimuth)])
    place = trial.place if trial.pixels else None
    both = remembered(
        PICTURES, (repr(trial.burst), place), pictures, trial.burst, place, seconds=PATIENT_SECONDS
    )
    return HttpResponse(
        both[show == "stack"],
        content_type="image/jpeg",
        headers={"Cache-Control": "private, max-age=600"},
    )


def panel(shot: Shot, trial: Trial | None = None) -> dict[str, object]:
    """What the panel shows: addresses of the pictures, and the figures that go with them."""
    trial = trial or Trial(shot, shot.frames, shot.shutter, 0, False)
    dial = steps(shot)
    context: dict[str, Any] = {
        "shot": shot,
        "trial_night": evening_of(shot.site.core(), trial.unix),
        "trial": trial,
        "frame_query": trial.query("frame"),
        "stack_query": trial.query("stack"),
        "step": dial.index(trial.shutter),
        "dial": dial,
        "most_frames": max(2 * shot.frames, 60),
        "most_days": MOST_DAYS,
    }
    wish = replace(shot.wish, unix=trial.unix, night=None, mode="stack")
    own = replace(wish.own, iso=trial.iso, shutter=trial.shutter, frames=trial.frames)
    try:
        found = plan_picture(replace(wish, own=own)).plan
    except BadInput as error:
        return {**context, "problem": str(error)}
    e = found.exposure
    return {
        **context,
        "sky": found.at.brightness,
        "moon": found.at.cost.get("moon", 0.0),
        "one": e.frames.snr_output / e.frames.count**0.5,
        "stacked": e.frames.snr_output,
        "minutes": e.frames.minutes,
        "trail": e.shutter.trail_px,
    }


def expected_panel(request: HttpRequest, pk: int) -> HttpResponse:
    """The panel's pictures and figures for what is tried."""
    shot = owned(Shot, request, pk)
    return render(request, "shots/expected_pictures.html", panel(shot, _trial(request, shot)[0]))
