"""What the map draws: coasts and borders, towns by size, and our own glow, for the region in view."""

from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt
from django.http import HttpRequest, HttpResponse, JsonResponse

from vinter.core.ground.coastline import Region, land_mask, lines
from vinter.core.ground.glowmap import glow_map
from vinter.core.sky.glow import glow, places
from vinter.web.forms import checked
from vinter.web.sites.forms import BoxForm, PointForm

LINE_STEPS = 900  # parts of the region's width to which lines are simplified
TOWNS = 70
LARGEST_GLOW = 26.0  # degrees of width; beyond it the overlay is not drawn
PICTURE = 512
STEP = 0.5  # degrees to which glow regions are widened, so that small moves of the map need no new sum
INK, AMBER = (16, 33, 63), (201, 138, 27)
DARK, BRIGHT = 21.8, 17.5  # mag/arcsec^2 at which ink and amber are full
NEUTRAL = 20.3
WAVE, WAVE_STEP = 0.4, 9  # share of the ink that a stroke on water takes away; px between rows of strokes


def _region(request: HttpRequest) -> Region:
    return checked(BoxForm(request.GET)).cleaned_data["box"]  # type: ignore[no-any-return]


def map_lines(request: HttpRequest) -> JsonResponse:
    """Coasts and borders as lists of [lat, lon]."""
    region = _region(request)
    found = lines(region, (region.east - region.west) / LINE_STEPS)
    return JsonResponse(
        {"lines": [{"coast": coast, "points": np.round(line[:, ::-1], 4).tolist()} for coast, line in found]}
    )


def map_towns(request: HttpRequest) -> JsonResponse:
    """The largest towns in view, with what they add to the zenith a kilometre from their centre."""
    region, p = _region(request), places()
    middle = (region.west + region.east) / 2
    lon = (p.lon - middle + 180) % 360 - 180 + middle
    inside = np.flatnonzero(
        (p.lat > region.south)
        & (p.lat < region.north)
        & (lon > region.west)
        & (lon < region.east)
        & (p.city == np.arange(len(p.lat)))  # districts go by their city
    )[:TOWNS]
    return JsonResponse(
        {
            "towns": [
                {
                    "name": p.names[i],
                    "lat": round(float(p.lat[i]), 4),
                    "lon": round(float(lon[i]), 4),
                    "people": int(p.pop[i]),
                }
                for i in inside
            ]
        }
    )


def _widened(region: Region) -> Region:
    south, west = (np.floor(v / STEP) * STEP for v in (region.south, region.west))
    north, east = (np.ceil(v / STEP) * STEP for v in (region.north, region.east))
    return Region(max(float(south), -84.5), float(west), min(float(north), 84.5), float(east))


def _waves(rows: int) -> npt.NDArray[np.bool_]:
    """Short level strokes by which water is told from land, at the size of the picture."""
    y, x = np.arange(rows)[:, None], np.arange(PICTURE)[None, :]
    line = y // WAVE_STEP
    return np.asarray((y % WAVE_STEP == 0) & ((x + 5 * (line % 2)) % 12 < 4))


@lru_cache(maxsize=24)
def _glow_picture(region: Region) -> bytes:
    """PNG of the glow in the map's own projection: ink where the sky is dark, amber where towns light it."""
    grid = glow_map(region, 260)
    top, bottom = (np.log(np.tan(np.pi / 4 + np.radians(v) / 2)) for v in (region.north, region.south))
    rows = max(round(PICTURE * (top - bottom) / np.radians(region.east - region.west)), 8)
    lat = np.degrees(2 * np.arctan(np.exp(top - (np.arange(rows) + 0.5) / rows * (top - bottom))) - np.pi / 2)
    height, width = grid.zenith.shape
    y = ((region.north - lat) / (region.north - region.south) * height - 0.5).astype(np.float32)
    x = ((np.arange(PICTURE) + 0.5) / PICTURE * width - 0.5).astype(np.float32)
    zenith = cv2.remap(
        grid.zenith.astype(np.float32),
        np.tile(x, (rows, 1)),
        np.tile(y[:, None], (1, PICTURE)),
        cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )
    dark = np.clip((zenith - NEUTRAL) / (DARK - NEUTRAL), 0, 1) ** 1.3
    light = np.clip((NEUTRAL - zenith) / (NEUTRAL - BRIGHT), 0, 1)
    picture = np.empty((rows, PICTURE, 4), np.uint8)
    picture[..., :3] = np.where((zenith >= NEUTRAL)[..., None], INK, AMBER)[..., ::-1]
    land = cv2.resize(land_mask(region, height, width).astype(np.float32), (width, height))
    sea = 1 - cv2.remap(
        land,
        np.tile(x, (rows, 1)),
        np.tile(y[:, None], (1, PICTURE)),
        cv2.INTER_LINEAR,
        borderMode=cv2.BORDER_REPLICATE,
    )
    ink = np.maximum(0.82 * dark, 0.85 * light)  # the same for the same sky, over land and water
    picture[..., 3] = np.round(255 * ink * np.where((sea > 0.5) & _waves(rows), 1 - WAVE, 1))
    return bytes(cv2.imencode(".png", picture)[1].tobytes())


def map_glow(request: HttpRequest) -> HttpResponse:
    """The glow overlay of a region; its exact box stands in the header X-Box."""
    region = _region(request)
    if region.east - region.west > LARGEST_GLOW:
        return HttpResponse(status=204)
    wide = _widened(region)
    return HttpResponse(
        _glow_picture(wide),
        content_type="image/png",
        headers={
            "X-Box": f"{wide.south},{wide.west},{wide.north},{wide.east}",
            "Cache-Control": "private, max-age=3600",
        },
    )


def map_point(request: HttpRequest) -> JsonResponse:
    """The sky at a point of the map by the town model."""
    point = checked(PointForm(request.GET)).cleaned_data
    lat, lon = point["lat"], (point["lon"] + 180) % 360 - 180
    found = glow(lat, lon)
    town = found.towns[0] if found.towns else None
    low, high = found.class_range
    return JsonResponse(
        {
            "zenith": round(found.zenith, 1),
            "error": round(found.uncertainty, 1),
            "classes": f"{low}" if low == high else f"{low} to {high}",
            "town": f"{town.name}, {town.distance_km:.0f} km" if town else "",
        }
    )
