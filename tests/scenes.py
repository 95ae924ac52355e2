"""Night scenes for the stack that share no code with Vinter: conifers, cloud, lamps, a turned phone, mixed
exposures, few frames, short frames, linear and JPEG files, trees that sway.

A pinhole camera stands while the sky turns about the pole; stars have Moffat images with the wide wings of
real
lenses, the sky a gradient, the lens dark corners, the sensor shot and read noise. Truth comes beside the
files.
"""

import struct
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
import tifffile

BLACK, WHITE = 256, 4095
RATE = np.radians(360.98565 / 86400)
COLOUR = np.array([0.5, 1.0, 0.72])
BRIGHT = 120.0  # electrons a second, of stars whose places are compared


@dataclass
class Scene:
    """What to draw. Angles in degrees, light in electrons a pixel and second of green."""

    width: int = 4032
    height: int = 3024
    focal: float = 2800.0
    count: int = 12
    shutter: float = 12.0
    gap: float = 1.5
    altitude: float = 25.0  # of the lens's axis
    latitude: float = 38.0
    sky: float = 1.1
    stars: int = 9000
    ground: str = "conifers"  # conifers, hills, none
    ground_light: float = 0.035  # against the sky
    read_noise: float = 1.6
    gain: float = 18.0  # digits an electron at 12 bit
    cloud: float = 0.0
    lamp: dict = field(default_factory=dict)  # frame: light on the ground against the sky
    sway: float = 0.0  # px
    exposures: dict = field(default_factory=dict)  # frame: share of the shutter
    tilt: float = 0.0
    lines: dict = field(
        default_factory=dict
    )  # frame: (x0, y0, x1, y1 as shares, electrons a px of way, blinks)
    blur: dict = field(default_factory=dict)  # frame: px of blur
    shake: dict = field(default_factory=dict)  # frame: px of swing
    veil: dict = field(default_factory=dict)  # frame: share of the sky's light that a cloud takes
    seed: int = 1


def rotation(axis, angle):
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * k @ k


def pole(s):
    """Direction of the celestial pole as the camera (right, down, forward), facing south, sees it."""
    lat, up, t = np.radians([s.latitude, s.altitude, s.tilt])
    east, north, high = np.array([0.0, np.cos(lat), np.sin(lat)])
    right, forward = -east, -north * np.cos(up) + high * np.sin(up)
    down = -(high * np.cos(up) + north * np.sin(up))
    return np.array([right * np.cos(t) + down * np.sin(t), down * np.cos(t) - right * np.sin(t), forward])


def sky_rays(s):
    """Unit vectors of stars around the frame, and their electrons a second."""
    rng = np.random.default_rng([s.seed, 1])
    wide = 1.35
    u = rng.uniform(-wide * s.width / 2, wide * s.width / 2, s.stars) / s.focal
    v = rng.uniform(-wide * s.height / 2, wide * s.height / 2, s.stars) / s.focal
    rays = np.stack([u, v, np.ones_like(u)], axis=1)
    flux = 3.0 * rng.uniform(0, 1, s.stars) ** (-1 / 1.1)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True), np.minimum(flux, 6e4)


def at(s, i):
    """Seconds of the middle of frame i from the middle of the take."""
    return (i - (s.count - 1) / 2) * (s.shutter + s.gap)


def places(s, rays, seconds):
    turned = rays @ rotation(pole(s), -RATE * seconds).T
    xy = turned[:, :2] / np.maximum(turned[:, 2:], 0.05) * s.focal + [(s.width - 1) / 2, (s.height - 1) / 2]
    return xy, turned[:, 2] > 0.05


def skyline(s, sway=0.0):
    """Row of the upper edge of the ground for every column, with fractions."""
    x = np.arange(s.width, dtype=float)
    if s.ground == "none":
        return np.full(s.width, s.height + 10.0)
    rng = np.random.default_rng([s.seed, 2])
    base = s.height * (0.84 + 0.03 * np.sin(x / s.width * 7 + rng.uniform(0, 6)))
    base += s.height * 0.012 * np.sin(x / s.width * 23 + rng.uniform(0, 6))
    if s.ground == "hills":
        return base - s.height * 0.05 * np.sin(x / s.width * 11 + 1)
    line = base.copy()
    for _ in range(26):
        foot, tall = rng.uniform(0, s.width), rng.uniform(0.06, 0.26) * s.height
        half = tall * rng.uniform(0.13, 0.22)
        branches = 6 * s.height / 3024 * np.abs(((x - foot) / (half / 7)) % 2 - 1)
        away = np.abs(x - foot - sway * tall / (0.2 * s.height))
        top = base[int(min(foot, s.width - 1))] - tall * np.maximum(1 - away / half, 0) ** 1.15 + branches
        line = np.where(away < half, np.minimum(line, top), line)
    return line


def share_of_sky(s, sway=0.0):
    y = np.arange(s.height, dtype=float)[:, None]
    return np.clip(skyline(s, sway)[None, :] - y, 0, 1).astype(np.float32)


def draw_stars(picture, s, rays, flux, seconds):
    trail = RATE * s.shutter * s.focal  # px at most
    steps = 7 if trail > 1.5 else 4
    rng_beta, core = 2.6, 1.35 * s.width / 4032 + 0.25
    for k in range(steps):
        xy, front = places(s, rays, seconds + (k - (steps - 1) / 2) / steps * s.shutter)
        inside = front & (xy > 60).all(axis=1) & (xy < [s.width - 60, s.height - 60]).all(axis=1)
        xy, given = xy[inside], flux[inside] * s.shutter / steps
        for least, most, r in ((0, 60, 5), (60, 4000, 16), (4000, np.inf, 48)):
            mine = (given >= least) & (given < most)
            (x, y), f = xy[mine].T, given[mine]
            columns, rows = (v.astype(int)[:, None] + np.arange(-r, r + 1) for v in (x, y))
            away = (columns - x[:, None])[:, None, :] ** 2 + (rows - y[:, None])[:, :, None] ** 2
            image = (f * (rng_beta - 1) / (np.pi * core**2))[:, None, None] * (
                1 + away / core**2
            ) ** -rng_beta
            np.add.at(picture, (rows[:, :, None], columns[:, None, :]), image.astype(picture.dtype))


def draw_line(picture, s, x0, y0, x1, y1, strength, blinks):
    way = np.hypot((x1 - x0) * s.width, (y1 - y0) * s.height)
    for t in np.linspace(0, 1, int(2 * way)):
        x, y = (x0 + t * (x1 - x0)) * s.width, (y0 + t * (y1 - y0)) * s.height
        if not (6 < x < s.width - 7 and 6 < y < s.height - 7):
            continue
        f = strength / 2 * (12.0 if blinks and (t * 14) % 1 < 0.06 else 1.0)
        part = np.s_[int(y) - 4 : int(y) + 5, int(x) - 4 : int(x) + 5]
        gy, gx = np.mgrid[part]
        picture[part] += f * np.exp(-((gx - x) ** 2 + (gy - y) ** 2) / (2 * 1.3**2)) / (2 * np.pi * 1.3**2)


def light(s, i):
    """Electrons of frame i without noise, on one plane of green."""
    y, x = np.mgrid[: s.height, : s.width].astype(np.float32)
    picture = s.sky * s.shutter * (1 + 0.5 * y / s.height + 0.12 * x / s.width)
    band = np.exp(-(((x - 0.3 * s.width - 0.35 * y) / (0.09 * s.width)) ** 2))
    picture *= 1 + 0.45 * band
    rays, flux = sky_rays(s)
    draw_stars(picture, s, rays, flux, at(s, i))
    if s.cloud:
        drift = at(s, i) * 3.0
        cells = np.sin((x + drift) / 310 + y / 190) + np.sin((x + drift) / 170 - y / 260)
        veil = np.clip(s.cloud * cells / 2, 0, 0.8)
        picture = picture * (1 - veil) + s.sky * s.shutter * 1.6 * veil
    if i in s.lines:
        draw_line(picture, s, *s.lines[i])
    if i in s.blur:
        picture = cv2.GaussianBlur(picture, (0, 0), s.blur[i])
    if i in s.shake:
        size = int(s.shake[i])
        kernel = np.zeros((size, size), np.float32)
        cv2.line(kernel, (0, size // 3), (size - 1, 2 * size // 3), 1.0)
        picture = cv2.filter2D(picture, -1, kernel / kernel.sum())
    if i in s.veil:
        flat = s.sky * s.shutter * 1.3
        picture = picture * (1 - s.veil[i]) + flat * s.veil[i]
    sway = s.sway * np.sin(1.7 * i)
    sky = share_of_sky(s, sway)
    rng = np.random.default_rng([s.seed, 3])
    small = rng.uniform(0.4, 1.6, (s.height // 24 + 2, s.width // 24 + 2)).astype(np.float32)
    texture = cv2.resize(small, (s.width, s.height), interpolation=cv2.INTER_CUBIC)
    fine = cv2.resize(
        rng.uniform(0.7, 1.3, (s.height // 5 + 2, s.width // 5 + 2)).astype(np.float32), (s.width, s.height)
    )
    lit = s.ground_light + s.lamp.get(i, 0.0)
    ground = s.sky * s.shutter * lit * np.maximum(texture * fine, 0.1)
    picture = picture * sky + ground * (1 - sky)
    r2 = ((x - s.width / 2) ** 2 + (y - s.height / 2) ** 2) / ((s.width / 2) ** 2 + (s.height / 2) ** 2)
    return picture * (1 - 0.4 * r2) * s.exposures.get(i, 1.0)


def mosaic(s, i):
    """Digital numbers of frame i, RGGB."""
    rng = np.random.default_rng([s.seed, 9, i])
    picture = light(s, i)
    picture *= np.tile(COLOUR[[[0, 1], [1, 2]]], (s.height // 2, s.width // 2))
    noisy = rng.poisson(np.minimum(picture, 1e6)) + rng.normal(0, s.read_noise, picture.shape)
    return np.clip(np.round(noisy * s.gain + BLACK), 0, WHITE).astype(np.uint16)


TAGS = [
    (33421, "H", 2, (2, 2), True),
    (33422, "B", 4, (0, 1, 1, 2), True),
    (50706, "B", 4, (1, 4, 0, 0), True),
    (50707, "B", 4, (1, 1, 0, 0), True),
    (50708, "s", 0, "Scene Camera", True),
    (50714, "H", 1, BLACK, True),
    (50717, "H", 1, WHITE, True),
    (50728, "2I", 3, (1, 2, 1, 1, 18, 25), True),
    (50721, "2i", 9, (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1), True),
    (50778, "H", 1, 21, True),
]


def developed(s, i):
    """The frame as a phone's own JPEG: colours apart, balanced, encoded, 8 bits."""
    raw = (mosaic(s, i).astype(np.float32) - BLACK) / (WHITE - BLACK)
    rgb = cv2.cvtColor(np.clip(raw * 60000 + 2000, 0, 65535).astype(np.uint16), cv2.COLOR_BayerRG2RGB)
    linear = (rgb.astype(np.float32) - 2000) / 60000 / COLOUR
    return np.round(255 * np.clip(linear * 1.2, 0, 1) ** (1 / 2.2)).astype(np.uint8)


def linear_rgb(s, i):
    """The frame as linear RGB of 16 bits."""
    raw = (mosaic(s, i).astype(np.float32) - BLACK) / (WHITE - BLACK)
    return cv2.cvtColor(np.clip(raw * 60000 + 2000, 0, 65535).astype(np.uint16), cv2.COLOR_BayerRG2RGB)


def make(folder, s, kind="raw"):
    """Write the frames, and give the share of sky of the middle one."""
    folder.mkdir(parents=True, exist_ok=True)
    for i in range(s.count):
        if kind == "jpeg":
            cv2.imwrite(str(folder / f"F{i:03d}.jpg"), developed(s, i)[..., ::-1], [1, 95])
        elif kind == "linear":
            tags = [t for t in TAGS if t[0] not in (33421, 33422, 50714, 50717)]
            tags += [(50714, "H", 3, (2000,) * 3, True), (50717, "H", 3, (62000,) * 3, True)]
            tifffile.imwrite(
                folder / f"F{i:03d}.dng", linear_rgb(s, i), photometric=34892, extratags=tags, metadata=None
            )
        elif kind == "packed":
            write_packed(folder / f"F{i:03d}.dng", mosaic(s, i), evened(s))
        else:
            tifffile.imwrite(
                folder / f"F{i:03d}.dng", mosaic(s, i), photometric=32803, extratags=TAGS, metadata=None
            )
    return share_of_sky(s)


def overlap(mask, truth):
    """Intersection over union of sky and of ground, of a mask (255 sky) and the true share of sky."""
    sky, found = truth > 0.5, mask > 127
    ground, low = ~sky, ~found
    return (
        float((sky & found).sum() / max((sky | found).sum(), 1)),
        float((ground & low).sum() / max((ground | low).sum(), 1)),
    )


def star_errors(s, report, sky):
    """Distances (px) between where the homographies and the truth put the stars of the sky, all frames."""
    rays, flux = sky_rays(s)
    rays = rays[flux > BRIGHT]
    number = {f"F{i:03d}": i for i in range(s.count)}
    reference, _ = places(s, rays, at(s, number[Path(report["reference"]).stem]))
    out = []
    for row in report["frames"]:
        if not row["used"]:
            continue
        here, front = places(s, rays, at(s, number[Path(row["file"]).stem]))
        inside = front & (here > 30).all(axis=1) & (here < [s.width - 30, s.height - 30]).all(axis=1)
        inside &= (reference > 30).all(axis=1) & (reference < [s.width - 30, s.height - 30]).all(axis=1)
        inside[inside] = sky[reference[inside, 1].astype(int), reference[inside, 0].astype(int)] > 0.99
        p = np.c_[here[inside], np.ones(inside.sum())] @ np.array(row["homography"]).T
        out.append(np.hypot(*(p[:, :2] / p[:, 2:] - reference[inside]).T))
    return np.concatenate(out) if out else np.array([np.nan])


def evened(s, rows=13, columns=17):
    """The gain that takes the lens's dark corners out, as a phone would write it."""
    y, x = np.meshgrid(np.linspace(-1, 1, rows), np.linspace(-1, 1, columns), indexing="ij")
    r2 = (x**2 * s.width**2 + y**2 * s.height**2) / (s.width**2 + s.height**2)
    return 1 / (1 - 0.4 * r2)


def packed_rows(values, bits):
    """Rows of numbers, each of so many bits, one after the other with the highest bit first."""
    spread = ((values[..., None] >> np.arange(bits - 1, -1, -1)) & 1).astype(np.uint8)
    return np.packbits(spread.reshape(len(values), -1), axis=1)


def write_packed(path, mosaic, gain):
    """A mosaic as phones with ten bits pack it, with the gain (rows, columns) they ask for over the frame: a
    TIFF written by hand, one strip."""
    height, width = mosaic.shape
    scale = (1023 - 64) / (WHITE - BLACK)
    values = np.clip(np.round((mosaic.astype(float) - BLACK) * scale + 64), 0, 1023).astype(np.uint16)
    data = packed_rows(values, 10).tobytes()
    rows, columns = gain.shape
    area = struct.pack(">10I", 0, 0, height, width, 0, 1, 1, 1, rows, columns)
    spread = struct.pack(">4d", 1 / (rows - 1), 1 / (columns - 1), 0, 0)
    table = area + spread + struct.pack(">I", 1) + gain.astype(">f4").tobytes()
    opcode = struct.pack(">5I", 1, 9, 0x01030000, 0, len(table)) + table
    entries, beyond = [], b""

    def entry(tag, kind, *given):
        nonlocal beyond
        form = {1: "B", 2: "s", 3: "H", 4: "I", 5: "I", 7: "B", 10: "i"}[kind]
        raw = given[0] if kind in (2, 7) else struct.pack(f"<{len(given)}{form}", *given)
        count = len(raw) if kind in (1, 2, 7) else len(given) // (2 if kind in (5, 10) else 1)
        if len(raw) <= 4:
            entries.append((tag, kind, count, raw.ljust(4, b"\0")))
        else:
            entries.append((tag, kind, count, len(beyond)))
            beyond += raw + b"\0" * (len(raw) % 2)

    for tag, kind, *given in (
        (254, 4, 0), (256, 4, width), (257, 4, height), (258, 3, 10), (259, 3, 1), (262, 3, 32803),
        (273, 4, 0), (277, 3, 1), (278, 4, height), (279, 4, len(data)), (284, 3, 1),
        (33421, 3, 2, 2), (33422, 1, 0, 1, 1, 2), (50706, 1, 1, 4, 0, 0), (50707, 1, 1, 1, 0, 0),
        (50708, 2, b"Scene Camera\0"), (50714, 3, 64), (50717, 3, 1023),
        (50721, 10, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1),
        (50728, 5, 1, 2, 1, 1, 18, 25), (50778, 3, 21), (51009, 7, opcode),
    ):  # fmt: skip
        entry(tag, kind, *given)
    after = 8 + 2 + 12 * len(entries) + 4
    out = bytearray(b"II*\0" + struct.pack("<IH", 8, len(entries)))
    for tag, kind, count, value in entries:
        if tag == 273:
            value = struct.pack("<I", after + len(beyond))
        out += struct.pack("<HHI", tag, kind, count)
        out += value if isinstance(value, bytes) else struct.pack("<I", after + value)
    path.write_bytes(bytes(out + b"\0\0\0\0" + beyond + data))
