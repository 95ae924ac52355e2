"""The star catalogue and the maps of the Milky Way that Vinter ships, from counted stars; used by
build_sky_data.

The fine structure of the band is that of real stars: where dust hides them, it hides what shines behind. The
large scale is a smooth model, brought to published surface brightness.
"""

import csv
from pathlib import Path

import cv2
import numpy as np
from scipy.ndimage import gaussian_filter
from scipy.spatial import cKDTree

STEP = 0.1  # degrees of galactic longitude and latitude per map pixel
SHAPE = (round(180 / STEP), round(360 / STEP))
POLE_RA, POLE_DEC, NODE_L = 192.85948, 27.12825, 122.93192
RECORD = np.dtype([("id", "<i8"), ("ra", "<f8"), ("dec", "<f8"), ("g", "<f4"), ("bp", "<f4"), ("rp", "<f4")])
HEADER = 16  # bytes before the records
POINTS_V = 7.5  # brighter stars are points and no part of the band's light


# Surface brightness of the Milky Way by itself, V mag/arcsec^2 (recalled; each good to 0.1 to 0.2): l, b,
# value.
PUBLISHED = (
    ("large Sagittarius cloud", 3.0, -3.5, 21.0),
    ("small Sagittarius cloud", 12.8, -1.5, 21.1),
    ("Scutum cloud", 27.0, -2.5, 21.15),
    ("Aquila, beside the rift", 41.0, -3.5, 21.75),
    ("Cygnus cloud", 73.0, 2.0, 21.4),
    ("Cassiopeia", 118.0, -2.0, 22.2),
    ("anticentre", 180.0, 0.0, 22.8),
    ("Puppis", 245.0, -2.5, 22.2),
    ("Carina", 286.5, -1.0, 21.0),
    ("Centaurus", 312.0, 0.0, 21.6),
    ("Norma", 331.0, -3.0, 21.3),
    ("galactic pole", 0.0, 85.0, 24.1),
)


TENTHS = 10  # steps of the shipped maps in a nanolambert


def galactic(ra, dec):
    """Galactic (l, b) in degrees of equatorial J2000 positions in degrees; l from -180 to 180."""
    a, d, d0 = np.radians(ra - POLE_RA), np.radians(dec), np.radians(POLE_DEC)
    b = np.arcsin(np.clip(np.sin(d) * np.sin(d0) + np.cos(d) * np.cos(d0) * np.cos(a), -1, 1))
    y = np.cos(d) * np.sin(a)
    x = np.sin(d) * np.cos(d0) - np.cos(d) * np.sin(d0) * np.cos(a)
    return np.mod(NODE_L - np.degrees(np.arctan2(y, x)) + 180, 360) - 180, np.degrees(b)


def unit(ra, dec):
    a, d = np.radians(ra), np.radians(dec)
    return np.stack([np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)], axis=1)


def star_table(records_path, named):
    """Right ascension, declination, V and B-V of all stars to G = 10, brightest first.

    ``named`` (n, 4) are stars to V = 8 with measured V and B-V. Others get V from G and the colour measured
    by the same survey; B-V from that colour by the medians of the stars that both lists hold.
    """
    records = np.frombuffer(Path(records_path).read_bytes()[HEADER:], RECORD)
    coloured = (records["bp"] > 0) & (records["rp"] > 0)
    c = np.where(coloured, records["bp"] - records["rp"], 0.8).astype(float)
    v = records["g"] - (-0.02704 + 0.01424 * c - 0.2156 * c**2 + 0.01426 * c**3)
    tree = cKDTree(unit(records["ra"], records["dec"]))
    away, which = tree.query(unit(named[:, 0], named[:, 1]), distance_upper_bound=np.radians(40 / 3600))
    same = np.isfinite(away)
    same[same] = np.abs(v[which[same]] - named[same, 2]) < 0.8
    both, theirs = which[same], named[same]
    usable = coloured[both]
    bins = np.linspace(-0.4, 2.4, 29)
    at = np.digitize(c[both][usable], bins)
    centres, medians = [], []
    for k in range(1, len(bins)):
        here = theirs[usable, 3][at == k]
        if len(here) > 30:
            centres.append((bins[k - 1] + bins[k]) / 2)
            medians.append(np.median(here))
    bv = np.interp(c, centres, medians)
    bv[both], v[both] = theirs[:, 3], theirs[:, 2]
    lonely = named[~same & (named[:, 2] < 7.5)]
    table = np.concatenate([np.c_[records["ra"], records["dec"], v, bv], lonely])
    print(f"{len(table)} stars, {same.sum()} in both lists, {len(lonely)} bright ones in the older alone")
    return table[np.argsort(table[:, 2], kind="stable")]


def binned(l, b, weight):
    """Sum of weights in the cells of the map."""
    rows = np.clip(((90 - b) / STEP).astype(int), 0, SHAPE[0] - 1)
    columns = np.clip(((l + 180) / STEP).astype(int), 0, SHAPE[1] - 1)
    found = np.bincount(rows * SHAPE[1] + columns, weight, SHAPE[0] * SHAPE[1])
    return found.reshape(SHAPE).astype(np.float32)


def soft(values, degrees):
    """A Gaussian of degrees (b, l); wide ones on a coarser grid."""
    coarse = max(int(min(degrees) / STEP / 4), 1)
    values = np.asarray(values, np.float32)
    if coarse > 1:
        size = (SHAPE[1] // coarse, SHAPE[0] // coarse)
        values = cv2.resize(values, size, interpolation=cv2.INTER_AREA)
    out = gaussian_filter(values, np.array(degrees) / STEP / coarse, mode=("nearest", "wrap"))
    return out if coarse == 1 else cv2.resize(out, SHAPE[::-1], interpolation=cv2.INTER_LINEAR)


def smoothed(counts, area):
    """Stars a square degree, as finely as their number allows."""
    out = soft(counts, (5, 5)) / soft(area, (5, 5))
    for sigma, most in ((2.5, 1.0), (1.2, 1.0), (0.7, 1.0), (0.45, 1.0), (0.3, 0.8)):
        found = soft(counts, (sigma, sigma))
        under = found * 4 * np.pi * (sigma / STEP) ** 2  # stars that a kernel holds
        blend = np.clip((under - 25) / 190, 0, 1) * most
        out = (1 - blend) * out + blend * found / soft(area, (sigma, sigma))
    return out


def fractal(rng, octaves):
    out = np.zeros(SHAPE, np.float32)
    for sigma in octaves:
        layer = gaussian_filter(
            rng.standard_normal(SHAPE).astype(np.float32), sigma / STEP, mode=("nearest", "wrap")
        )
        out += layer / layer.std() * sigma**0.5
    return out / out.std()


def nanolamberts(magnitude):
    return 34.08 * np.exp(20.7233 - 0.92104 * magnitude)


def starlight(l, b, v):
    """nL of stars as smooth light over a degree."""
    b_rows = 90 - (np.arange(SHAPE[0]) + 0.5) * STEP
    cell = STEP**2 * np.cos(np.radians(b_rows))[:, None] * 3600.0**2  # arcsec^2
    flux = binned(l, b, 10 ** (-0.4 * v))
    area = np.broadcast_to(np.maximum(cell, 1.0), SHAPE)
    shares = soft(flux, (1.0, 1.0)) / soft(np.array(area), (1.0, 1.0))
    return nanolamberts(-2.5 * np.log10(np.maximum(shares, 1e-14)))


def maps(table):
    """Total light (nL), light of what is no catalogue star, colour (B-V), and the transparency of the
    dust."""
    rng = np.random.default_rng(20270609)
    l, b = galactic(table[:, 0], table[:, 1])
    v = table[:, 2]
    rows_b = 90 - (np.arange(SHAPE[0]) + 0.5) * STEP
    grid_b, grid_l = np.meshgrid(rows_b, (np.arange(SHAPE[1]) + 0.5) * STEP - 180, indexing="ij")
    area = STEP**2 * np.cos(np.radians(grid_b))
    faint = v > 7.0
    density = smoothed(binned(l[faint], b[faint], None), area)
    expected = soft(np.maximum(density, density[::-1]), (3, 6))
    ratio = (density / expected) ** 2.0
    through = np.maximum(1.9 * (1 - np.exp(-ratio / 1.6)) / (1 - np.exp(-1 / 1.6)) / 1.9, 0.03)
    # the finest edges of the dust: texture where the dust changes, none where it is clear
    edge = np.hypot(*np.gradient(soft(np.log(through), (0.3, 0.3)))) / STEP
    plane = np.exp(-np.abs(grid_b) / 9)
    dusty = np.clip(1.15 - through, 0, 1) * plane
    wisps = np.exp(0.8 * fractal(rng, (0.14, 0.28, 0.6, 1.2)) * np.clip(dusty + 0.35 * edge * plane, 0, 0.9))
    through = np.clip(through * wisps, 0.02, 1.8)
    near = np.abs(grid_l)
    bulge = 330 * np.exp(-((near / 10.5) ** 1.25) - (np.abs(grid_b + 1.5) / 6.0) ** 1.3)
    disc = 105 * np.exp(-((near / 62) ** 1.5)) * np.exp(-np.abs(grid_b) / 6.5) + 50 * np.exp(
        -np.abs(grid_b) / 8.5
    )
    halo = 9.0
    points = v > POINTS_V
    stars = starlight(l[points], b[points], v[points])
    total = (bulge + disc) * through + halo
    total *= np.exp(correction(total, grid_l, grid_b))
    total += neighbours(grid_l, grid_b)
    rest = np.maximum(total - stars, 0.06 * total)
    reddened = np.clip(-np.log(np.clip(through, 0.05, 1)), 0, 3)
    old = np.clip(bulge / (bulge + disc + 20), 0, 1)
    colour = 0.56 + 0.5 * old + 0.13 * reddened * plane - 0.1 * np.clip(through - 1, 0, 0.6) * (1 - old)
    return total, rest, colour, through


# Neighbouring galaxies: l, b, scale length (degrees), minor over major axis, angle of the major axis from
# galactic longitude (degrees), V mag/arcsec^2 of the middle (recalled, good to 0.3).
NEIGHBOURS = (
    (279.8, -33.6, 1.25, 0.85, 20.0, 22.0),
    (280.4, -32.8, 0.75, 0.25, 25.0, 21.3),  # its bar
    (302.8, -44.3, 0.62, 0.6, 60.0, 22.1),
    (121.17, -21.57, 0.42, 0.28, 128.0, 21.0),
    (133.6, -31.3, 0.25, 0.6, 60.0, 22.3),
)


def neighbours(grid_l, grid_b):
    """Light (nL) of the galaxies nearby: exponential discs."""
    out = np.zeros(SHAPE)
    for l0, b0, scale, ratio, angle, surface in NEIGHBOURS:
        x = ((grid_l - l0 + 180) % 360 - 180) * np.cos(np.radians(b0))
        y, a = grid_b - b0, np.radians(angle)
        along, across = x * np.cos(a) + y * np.sin(a), (y * np.cos(a) - x * np.sin(a)) / ratio
        out += nanolamberts(surface) * np.exp(-np.hypot(along, across) / scale)
    return out


def mean_at(values, l0, b0, radius=1.5):
    """Mean of a map within degrees of a place."""
    rows = np.arange(SHAPE[0])
    b = 90 - (rows + 0.5) * STEP
    l = (np.arange(SHAPE[1]) + 0.5) * STEP - 180
    gb, gl = np.meshgrid(b, l, indexing="ij")
    cosine = np.sin(np.radians(gb)) * np.sin(np.radians(b0)) + np.cos(np.radians(gb)) * np.cos(
        np.radians(b0)
    ) * np.cos(np.radians(gl - l0))
    inside = cosine > np.cos(np.radians(radius))
    return float(np.average(values[inside], weights=np.cos(np.radians(gb[inside]))))


def correction(total, grid_l, grid_b):
    """A smooth field (natural logarithm) that brings the map to the published places."""
    field = np.zeros(SHAPE)
    small = (slice(None, None, 10), slice(None, None, 10))
    for _ in range(14):
        now = total * np.exp(field)
        weight, push = np.full(field[small].shape, 0.15), np.zeros(field[small].shape)
        for _, l0, b0, wanted in PUBLISHED:
            off = np.log(nanolamberts(wanted) / mean_at(now, l0, b0))
            dl = (grid_l[small] - l0 + 180) % 360 - 180
            dl = dl * np.cos(np.radians(np.clip(np.abs(b0), 0, 80)))
            near = np.exp(
                -0.5 * ((dl / 22) ** 2 + ((grid_b[small] - b0) / (11 if abs(b0) < 40 else 30)) ** 2)
            )
            weight += near
            push += near * off
        step = cv2.resize((push / weight).astype(np.float32), SHAPE[::-1], interpolation=cv2.INTER_LINEAR)
        field += soft(step, (2, 2))
    for name, l0, b0, wanted in PUBLISHED:
        found = (20.7233 - np.log(mean_at(total * np.exp(field), l0, b0) / 34.08)) / 0.92104
        print(f"{name:28} {wanted:6.2f} {found:6.2f}")
    return field


def packed(table, path):
    """The arrays of stars.npz and milkyway.npz."""
    total, rest, colour, _ = maps(table)
    stars = {
        "radec": np.round(table[:, :2] * 1e4).astype(np.int32),  # 0.36 arcsec
        "v": np.round(table[:, 2] * 1000).astype(np.int16),
        "bv": np.clip(np.round(table[:, 3] * 50), -128, 127).astype(np.int8),
    }
    sky = {
        "total": np.round(total * TENTHS).astype(np.uint16),
        "rest": np.round(rest * TENTHS).astype(np.uint16),
        "bv": np.clip(np.round(colour * 100), 0, 255).astype(np.uint8),
        "red": np.clip(np.round(np.sqrt(emission(path)) * 10), 0, 255).astype(np.uint8),
    }
    return stars, sky


def emission(path):
    """Red light of the emission nebulae (nL of a red-sensitive eye, 0.1 degree cells) from their table."""
    rng = np.random.default_rng(6563)
    out = np.zeros(SHAPE, np.float32)
    texture = [fractal(rng, (0.12, 0.25, 0.5)) for _ in range(3)]
    rows_b = 90 - (np.arange(SHAPE[0]) + 0.5) * STEP
    with open(path) as file:
        lines = list(csv.DictReader(line for line in file if not line.startswith("#")))
    for k, row in enumerate(lines):
        l0, b0 = galactic(np.array(float(row["ra"])), np.array(float(row["dec"])))
        major, minor, angle = (
            float(row["major"]) / 120,
            float(row["minor"]) / 120,
            np.radians(float(row["angle"])),
        )
        reach = max(1.6 * major + 0.5, 0.6)
        r = (rows_b > b0 - reach) & (rows_b < b0 + reach)
        columns = (np.arange(SHAPE[1]) + 0.5) * STEP - 180
        dl = ((columns - l0 + 180) % 360 - 180) * np.cos(np.radians(b0))
        cols = np.abs(dl) < reach
        if not r.any() or not cols.any():
            continue
        x, y = np.meshgrid(dl[cols], rows_b[r] - b0)
        along, across = x * np.cos(angle) + y * np.sin(angle), y * np.cos(angle) - x * np.sin(angle)
        radius = np.hypot(along / max(major, 0.06), across / max(minor, 0.06))
        shape = np.exp(-0.5 * (radius / 0.62) ** 2)
        if row["shape"] in ("ring", "arc"):
            shape = np.exp(-0.5 * ((radius - 0.85) / 0.16) ** 2)
        if row["shape"] == "arc":  # open to one side
            shape *= np.clip(0.5 + x / np.maximum(np.hypot(x, y), 1e-3), 0, 1)
        wisp = np.exp(0.6 * texture[k % 3][np.ix_(r, cols)])
        peak = nanolamberts(float(row["surface"]))
        part = np.ix_(r, cols)
        out[part] += peak * shape * wisp / np.exp(0.18)
    return out
