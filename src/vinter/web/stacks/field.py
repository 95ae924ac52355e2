"""Where a finished stack points, when its take was shot for a shot: solved from its stars, written as FITS and DNG."""

import json
from dataclasses import asdict, replace
from typing import Any

import cv2
import numpy as np
import tifffile

from vinter.core.camera.projection import view_of
from vinter.core.finish.scene import read_stack
from vinter.core.formats.fits import wcs_cards, write_fits
from vinter.core.formats.lineardng import write_linear_dng
from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.reading import SRGB_FROM_XYZ
from vinter.core.frames.stars import find_stars
from vinter.core.stack.solve import Solution, solve
from vinter.web.stacks.models import Stack

KINDS = {"fits": "stack.fits", "dng": "stack.dng", "png": "stack.png"}


def solved(one: Stack) -> Solution | None:
    """The field of a stack; None without a shot or without a match."""
    shot, report = one.take.shot, one.report or {}
    row = next((r for r in report.get("frames", []) if r["file"] == report.get("reference")), None)
    if shot is None or row is None or not row.get("time") or one.method == "trails":
        return None
    rgb, _, _ = read_stack(one.picture)
    plane = picture_half(np.clip(rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    stars = find_stars(plane).stars
    view = view_of(shot.core_lens, shot.pose, shot.portrait)
    if (view.width, view.height) != rgb.shape[1::-1]:
        return None
    if report.get("straightened_px"):
        view = replace(view, k1=0.0)
    return solve(stars.xy, view, shot.site.core(), float(row["time"]) + shot.shutter / 2)


def describe(one: Stack) -> dict[str, Any] | None:
    """The solution as plain data for the report."""
    found = solved(one)
    return asdict(found) if found else None


def write(one: Stack, kind: str) -> None:
    """Write one of the other forms of a stack beside it, unless it is there."""
    path = one.folder / KINDS[kind]
    if path.exists():
        return
    field, picture = (one.report or {}).get("field"), tifffile.imread(one.picture)
    if kind == "fits":
        cards = wcs_cards(field["rotation"], field["focal_px"], field["k1"], field["width"], field["height"]) if field else None
        write_fits(path, picture, cards)
    elif kind == "dng":
        with tifffile.TiffFile(one.picture) as file:
            said = json.loads(file.pages[0].description)  # type: ignore[union-attr]
        neutral, matrix = tuple(said["neutral"]), np.array(said["matrix"])
        write_linear_dng(path, picture, neutral, np.linalg.inv(matrix) @ SRGB_FROM_XYZ)
    else:
        cv2.imwrite(str(path), np.clip(np.round(picture[..., ::-1] * 65535), 0, 65535).astype(np.uint16))
