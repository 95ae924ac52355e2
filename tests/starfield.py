"""A frame generator that shares no code with Vinter: for testing the stack on files it did not make itself.

A pinhole turned about a pole between frames, Gaussian stars, a smooth sky, a sharp checkered ground, noise,
hot pixels and one bright streak; written as a bare 16-bit Bayer DNG by tifffile, without EXIF unless asked
for.
"""

import json
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import tifffile

BLACK, WHITE = 512, 16383
PATTERNS = {"RGGB": (0, 1, 1, 2), "BGGR": (2, 1, 1, 0), "GRBG": (1, 0, 2, 1), "GBRG": (1, 2, 0, 1)}


@dataclass
class Field:
    """What to draw; angle in degrees a frame about a pole at (pole_x, pole_y) px."""

    count: int = 12
    width: int = 1600
    height: int = 1200
    focal: float = 1250.0
    pole: tuple[float, float] = (700.0, -2600.0)
    angle: float = 0.05
    k1: float = 0.0
    stars: int = 700
    sky: float = 900.0
    noise: float = 60.0
    ground: bool = True
    streak: int | None = 5
    pattern: str = "RGGB"
    seed: int = 3
    bumped: dict = field(
        default_factory=dict
    )  # frame: (px right, px down, degrees) the picture moves by from there on
    slip: tuple[float, float] = (0.0, 0.0)  # px right and down the picture moves by from frame to frame
    light: dict = field(default_factory=dict)  # frame: share of the light of stars and sky that comes through
    glow: dict = field(
        default_factory=dict
    )  # frame: (level, slope to the right) of light that is added to the sky
    gain: dict = field(default_factory=dict)  # frame: how much longer it was exposed
    land: str = "dark"  # or "bright" as the sky, "water" that mirrors it, "trees" that sway
    exposure: float | None = (
        None  # s, written as EXIF; a star is then drawn along the arc it runs through meanwhile
    )


def rotation(spec, i):
    """Rotation of the sky from the middle frame to frame i."""
    v = np.array(
        [
            (spec.pole[0] - (spec.width - 1) / 2) / spec.focal,
            (spec.pole[1] - (spec.height - 1) / 2) / spec.focal,
            1.0,
        ]
    )
    v /= np.linalg.norm(v)
    a = np.radians(spec.angle * (i - spec.count // 2))  # i may lie between two frames
    k = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.eye(3) + np.sin(a) * k + (1 - np.cos(a)) * k @ k


def camera(spec, i):
    """Rotation of the camera against the first stand: what bumps and slips do, for sky and ground alike."""
    moves = [(*spec.slip, 0.0)] * int(i) + [m for at, m in spec.bumped.items() if at <= i]
    dx, dy, roll = (sum(m[k] for m in moves) for k in range(3))
    turned = np.eye(3)
    for axis, angle in ((0, -dy / spec.focal), (1, dx / spec.focal), (2, np.radians(roll))):
        c, s = np.cos(angle), np.sin(angle)
        one = np.eye(3)
        j, k = (axis + 1) % 3, (axis + 2) % 3
        one[j, j], one[k, k], one[j, k], one[k, j] = c, c, -s, s
        turned = one @ turned
    return turned


def seen(spec, rays):
    """Pixel places of rays in the camera."""
    u = rays[:, :2] / rays[:, 2:]
    u = u * (1 + spec.k1 * (u**2).sum(axis=1))[:, None]
    return u * spec.focal + [(spec.width - 1) / 2, (spec.height - 1) / 2]


def places(spec, rays, i):
    """Pixel places of rays in frame i."""
    return seen(spec, rays @ rotation(spec, i).T @ camera(spec, i).T)


def unmoved(spec, i):
    """For every pixel of frame i, where its ground lies in the first stand: (height, width) of x and of y."""
    y, x = np.mgrid[: spec.height, : spec.width].astype(float)
    if np.allclose(camera(spec, i), np.eye(3)):
        return x, y
    middle = (spec.width - 1) / 2, (spec.height - 1) / 2
    rays = np.stack(
        [(x - middle[0]) / spec.focal, (y - middle[1]) / spec.focal, np.ones_like(x)], axis=-1
    ) @ camera(spec, i)
    return tuple(rays[..., k] / rays[..., 2] * spec.focal + middle[k] for k in (0, 1))


def horizon(spec):
    """Row of the skyline for each column: steps and slopes."""
    x = np.arange(spec.width)
    return skyline(spec, x).astype(int)


def skyline(spec, x):
    if spec.land == "water":
        return np.full_like(x, spec.height * 0.7, dtype=float)
    return spec.height * (0.8 + np.sin(x / 90) / 30 + (((x + 0.5) // 230) % 2) / 20)


def ground_pattern(spec):
    y, x = np.mgrid[: spec.height, : spec.width]
    return checks(spec, x, y)


def checks(spec, x, y):
    level = {"dark": (60.0, 140.0), "bright": (0.85 * spec.sky, 0.5 * spec.sky)}.get(spec.land, (60.0, 140.0))
    # a pixel's mean: edges that lie between pixels must not jump by whole ones
    (column, right), (row, low) = (_beside_an_edge((v + 0.5) / 8) for v in (x, y))
    return level[0] + level[1] * (
        (1 - low) * ((1 - right) * _cell(column - 1, row - 1) + right * _cell(column, row - 1))
        + low * ((1 - right) * _cell(column - 1, row) + right * _cell(column, row))
    )


def _beside_an_edge(v):
    """The cell after the nearest edge, and the share of a pixel that lies in it."""
    return np.round(v), np.clip((v - np.round(v)) * 8 + 0.5, 0, 1)


def _cell(column, row):
    value = np.sin(column * 12.9898 + row * 78.233) * 43758.5453
    return value - np.floor(value)


def draw_stars(picture, spec, rays, flux, i):
    arc = (spec.exposure or 0) * 360.98565 / 86400 / spec.angle
    steps = np.linspace(-arc / 2, arc / 2, 12 if spec.exposure else 1)
    y, x = np.ogrid[: spec.height, : spec.width]
    for s in steps:
        for (sx, sy), f in zip(
            seen(spec, rays @ rotation(spec, i + s).T @ camera(spec, i).T), flux / len(steps), strict=True
        ):
            if 8 < sx < spec.width - 9 and 8 < sy < spec.height - 9:
                rows, columns = (slice(int(v) - 6, int(v) + 7) for v in (sy, sx))
                away = (x[:, columns] - sx) ** 2 + (y[rows] - sy) ** 2
                picture[rows, columns] += f * np.exp(-away / (2 * 1.4**2))


def draw(spec, rays, flux, i, rng, hot):
    y, x = np.ogrid[: spec.height, : spec.width]
    picture = np.repeat(spec.sky * (1 + 0.3 * y / spec.height), spec.width, axis=1)
    draw_stars(picture, spec, rays, flux, i)
    picture *= spec.light.get(i, 1.0)
    level, slope = spec.glow.get(i, (0.0, 0.0))
    picture += level + slope * x / spec.width
    if spec.streak == i:
        t = np.linspace(0, 1, 4000)
        rows, columns = 150 + spec.height / 2.4 * t, 100 + spec.width / 1.25 * t
        picture[rows.astype(int), columns.astype(int)] += 2500
    if spec.ground:
        gx, gy = unmoved(spec, i)
        still = np.allclose(camera(spec, i), np.eye(3))
        line = np.tile(skyline(spec, gx[0]), (spec.height, 1)) if still else skyline(spec, gx)
        if spec.land == "trees":
            line = line - 25 * np.abs(np.sin(gx / 6 + 0.9 * i)) * (np.sin(gx / 40) > 0)
        land = gy > line
        if spec.land == "water":
            row = np.clip(2 * int(spec.height * 0.7) - np.arange(spec.height), 0, spec.height - 1)
            picture = np.where(land, 0.75 * picture[row] + 25, picture)
            picture[np.abs(gy - line) < 5] = 90.0  # the far bank
        else:
            picture[land] = checks(spec, gx[land], gy[land])
    picture = picture * spec.gain.get(i, 1.0)
    gains = np.array([0.5, 1.0, 0.7])[np.array(PATTERNS[spec.pattern])].reshape(2, 2)
    picture = picture * np.tile(gains, (spec.height // 2, spec.width // 2))
    picture = picture + rng.normal(0, spec.noise, picture.shape) * np.sqrt((picture + 100) / 1000)
    picture.ravel()[hot] += 4000
    return np.clip(np.round(picture + BLACK), 0, WHITE).astype(np.uint16)


def write(path, mosaic, spec):
    """A minimal DNG: no EXIF block, no preview, one strip."""
    tags = [
        (33421, "H", 2, (2, 2), True),
        (33422, "B", 4, PATTERNS[spec.pattern], True),
        (50706, "B", 4, (1, 4, 0, 0), True),
        (50707, "B", 4, (1, 1, 0, 0), True),
        (50708, "s", 0, "Test Camera", True),
        (50714, "H", 1, BLACK, True),
        (50717, "H", 1, WHITE, True),
        (50728, "2I", 3, (1, 2, 1, 1, 7, 10), True),
        (50721, "2i", 9, (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1), True),
        (50778, "H", 1, 21, True),
    ]
    if spec.exposure and not spec.gain:
        tags.append((33434, "2I", 1, (round(spec.exposure * 100), 100), True))
    tifffile.imwrite(path, mosaic, photometric=32803, extratags=tags, metadata=None, rowsperstrip=spec.height)


def make(folder: Path, spec: Field):
    """Write the frames and return the truth: places of the bright stars in every frame."""
    rng = np.random.default_rng(spec.seed)
    edge = 1.25 * np.array([spec.width, spec.height]) / 2 / spec.focal
    uv = rng.uniform(-edge, edge, (spec.stars, 2))
    rays = np.c_[uv, np.ones(len(uv))]
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    flux = 700 * 10 ** rng.uniform(-0.3, 1.1, spec.stars)
    hot = rng.choice(spec.width * spec.height, 150, replace=False)
    truth = {}
    for i in range(spec.count):
        name = f"IMG_{i:04d}.dng"
        write(folder / name, draw(spec, rays, flux, i, rng, hot), spec)
        truth[name] = places(spec, rays, i)
    (folder / "spec.txt").write_text(json.dumps(spec.__dict__))
    return truth, rays, flux
