"""A frame generator that shares no code with Vinter: for testing the stack on files it did not make itself.

A pinhole turned about a pole between frames, Gaussian stars, a smooth sky, a sharp checkered ground, noise, hot
pixels and one bright streak; written as a bare 16-bit Bayer DNG by tifffile, without EXIF unless asked for.
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
    bumped: dict = field(default_factory=dict)
    exposure: float | None = None  # s, written as EXIF; a star is then drawn along the arc it runs through meanwhile


def rotation(spec, i):
    """Rotation of the sky from the middle frame to frame i."""
    v = np.array([(spec.pole[0] - (spec.width - 1) / 2) / spec.focal, (spec.pole[1] - (spec.height - 1) / 2) / spec.focal, 1.0])
    v /= np.linalg.norm(v)
    a = np.radians(spec.angle * (i - spec.count // 2))  # i may lie between two frames
    k = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.eye(3) + np.sin(a) * k + (1 - np.cos(a)) * k @ k


def places(spec, rays, i):
    """Pixel places of rays in frame i."""
    turned = rays @ rotation(spec, i).T
    u = turned[:, :2] / turned[:, 2:]
    u = u * (1 + spec.k1 * (u**2).sum(axis=1))[:, None]
    return u * spec.focal + [(spec.width - 1) / 2, (spec.height - 1) / 2]


def horizon(spec):
    """Row of the skyline for each column: steps and slopes."""
    x = np.arange(spec.width)
    return (spec.height * 0.8 + 40 * np.sin(x / 90) + 60 * ((x // 230) % 2)).astype(int)


def ground_pattern(spec):
    y, x = np.mgrid[:spec.height, :spec.width]
    return 60.0 + 140.0 * (((x // 8) + (y // 8)) % 2)


def draw(spec, rays, flux, i, rng, hot):
    y, x = np.mgrid[:spec.height, :spec.width]
    picture = spec.sky * (1 + 0.3 * y / spec.height)
    arc = (spec.exposure or 0) * 360.98565 / 86400 / spec.angle
    steps = np.linspace(-arc / 2, arc / 2, 12 if spec.exposure else 1)
    drawn = [(x, y, f / len(steps)) for s in steps for (x, y), f in zip(places(spec, rays, i + s), flux, strict=True)]
    for sx, sy, f in drawn:
        if not (8 < sx < spec.width - 9 and 8 < sy < spec.height - 9):
            continue
        x0, y0 = int(sx) - 6, int(sy) - 6
        part = np.s_[y0:y0 + 13, x0:x0 + 13]
        picture[part] += f * np.exp(-((x[part] - sx) ** 2 + (y[part] - sy) ** 2) / (2 * 1.4**2))
    if spec.streak == i:
        t = np.linspace(0, 1, 4000)
        rows, columns = 150 + spec.height / 2.4 * t, 100 + spec.width / 1.25 * t
        picture[rows.astype(int), columns.astype(int)] += 2500
    if spec.ground:
        land = y > horizon(spec)[None, :]
        picture = np.where(land, ground_pattern(spec), picture)
    gains = np.array([0.5, 1.0, 0.7])[np.array(PATTERNS[spec.pattern])].reshape(2, 2)
    picture = picture * np.tile(gains, (spec.height // 2, spec.width // 2))
    picture = picture + rng.normal(0, spec.noise, picture.shape) * np.sqrt((picture + 100) / 1000)
    picture.ravel()[hot] += 4000
    return np.clip(np.round(picture + BLACK), 0, WHITE).astype(np.uint16)


def write(path, mosaic, spec):
    """A minimal DNG: no EXIF block, no preview, one strip."""
    tags = [(33421, "H", 2, (2, 2), True), (33422, "B", 4, PATTERNS[spec.pattern], True), (50706, "B", 4, (1, 4, 0, 0), True),
            (50707, "B", 4, (1, 1, 0, 0), True), (50708, "s", 0, "Test Camera", True), (50714, "H", 1, BLACK, True),
            (50717, "H", 1, WHITE, True), (50728, "2I", 3, (1, 2, 1, 1, 7, 10), True),
            (50721, "2i", 9, (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1), True), (50778, "H", 1, 21, True)]
    if spec.exposure:
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
