"""What a card and the page that points carry with them: the night at every ten minutes, as plain data."""

from dataclasses import asdict, replace

import numpy as np

from vinter.core.camera.projection import Pose, view_of
from vinter.core.field.minutes import Minute, card_minutes, coming
from vinter.core.field.times import short_name
from vinter.core.planning.picture import Wish
from vinter.core.sky.targets import target
from vinter.core.versions import Data
from vinter.web.byte_cache import ByteCache
from vinter.web.shots.models import Shot
from vinter.web.templatetags.figures import clock

MINUTES = ByteCache(8 * 2**20)
HORIZON_STEP = 3  # degrees of azimuth between points of the horizon that the page draws


def minutes_of(shot: Shot, wish: Wish) -> list[Minute]:
    """The night of a shot at every ten minutes; ``wish`` is what was asked for. Kept, for the card, its file
    and the page that points ask for the same."""
    pose, by_hand = shot.pose, "pose" in shot.manual_settings
    night = wish.night
    windows = [(w.start, w.end) for w in night.windows] if night else []
    key = repr((replace(wish, night=None), night and night.day, windows, pose, by_hand))
    return MINUTES.get(key, lambda: card_minutes(wish, pose, by_hand))


def night_data(shot: Shot, wish: Wish, rows: list[Minute]) -> Data:
    """The night of a shot for its card and its page that points; directions are (azimuth, altitude)."""
    view = view_of(shot.core_lens, shot.pose, shot.portrait)
    zone = shot.site.tz
    return {
        "shot": shot.pk,
        "name": short_name(target(shot.core_mode.target or shot.target)),
        "planned": {"t": shot.moment, "pose": _pose(shot.pose), "minutes": round(shot.minutes, 1)},
        "declination": round(shot.north.degrees, 2),
        "lens": {
            "across": round(2 * view.width / 2 / view.focal_px, 4),
            "down": round(2 * view.height / 2 / view.focal_px, 4),
        },
        "horizon": horizon_of(shot),
        "lamps": [[round(lamp.azimuth, 1), lamp.words] for lamp in shot.site.straylight_set.all()],
        "minutes": [_row(m, zone, shot.site.landmarks) for m in rows],
        "coming": [{"t": c.t, "clock": clock(c.t, zone), "words": c.words} for c in coming(wish)],
    }


def _pose(pose: Pose) -> list[float]:
    return [round(v, 2) for v in (pose.azimuth, pose.altitude, pose.roll)]


def _pair(direction: tuple[float, float]) -> list[float]:
    return [round(v, 2) for v in direction]


def _row(m: Minute, zone: str, landmarks: list[list[str | float]]) -> dict[str, object]:
    return {
        "t": m.t,
        "clock": clock(m.t, zone),
        "pose": _pose(m.pose),
        "set": asdict(m.settings) if m.settings else None,
        "why": m.why,
        "target": _pair(m.target),
        "sky": round(m.brightness, 1),
        "moon": _pair(m.moon),
        "sun": round(m.sun, 1),
        "marks": [[mark.name, *_pair((mark.azimuth, mark.altitude))] for mark in m.marks] + landmarks,
        "band": [_pair(p) for p in m.band],
        "hands": m.hands,
    }


def horizon_of(shot: Shot) -> list[list[float]]:
    """The ground's outline, every few degrees; flat where none was drawn."""
    site = shot.site.core()
    azimuth = np.arange(0.0, 361.0, HORIZON_STEP)
    altitude = site.horizon.at(azimuth) if site.horizon else np.zeros(len(azimuth))
    return [[float(a), round(float(h), 1)] for a, h in zip(azimuth, altitude, strict=True)]
