"""The glow of towns against places whose zenith is known, and how districts are counted."""

import numpy as np
import pytest

from vinter.core.sky.glow import Names, bearing_distance, direction_factor, glow, places, town_light
from vinter.core.sky.site import Site

# latitude, longitude, zenith in V mag/arcsec^2: middles of cities, edges of cities and small towns, dark
# country
CITIES = (
    (51.507, -0.128, 17.2),
    (34.05, -118.25, 17.4),
    (-12.05, -77.04, 16.97),
    (25.2, 55.27, 16.8),
    (53.48, -2.24, 17.4),
    (33.45, -112.07, 17.5),
    (28.65, 77.22, 18.05),
    (35.69, 139.69, 17),
    (1.29, 103.85, 17.2),
    (40.71, -74, 16.9),
    (41.88, -87.63, 17),
    (48.857, 2.35, 17.3),
    (40.416, -3.7, 18),
    (52.52, 13.4, 18.1),
    (48.21, 16.37, 18.3),
    (41.9, 12.5, 17.6),
    (45.46, 9.19, 17.6),
    (37.98, 23.73, 17.5),
    (30.05, 31.24, 16.8),
    (22.3, 114.17, 16.5),
    (19.43, -99.13, 17.1),
    (-23.55, -46.63, 17.1),
    (-34.6, -58.4, 17.2),
    (-33.45, -70.66, 17.2),
    (55.75, 37.62, 16.9),
    (39.9, 116.4, 17.3),
    (37.57, 126.98, 16.9),
    (-33.87, 151.2, 17.8),
    (-37.81, 144.96, 17.7),
    (43.65, -79.38, 17.1),
    (45.5, -73.57, 17),
    (53.35, -6.26, 17.9),
    (55.68, 12.57, 18.3),
    (59.33, 18.07, 18.1),
    (52.37, 4.9, 18.1),
    (52.23, 21.01, 17.9),
    (38.72, -9.14, 17.7),
    (41.39, 2.17, 17.5),
    (32.22, -110.97, 18.6),
    (40.76, -111.89, 18),
    (36.17, -115.14, 17.1),
    (39.74, -104.99, 17.6),
    (-33.92, 18.42, 18),
    (-26.2, 28.04, 17.6),
    (55.95, -3.19, 18.3),
    (47.37, 8.54, 18.5),
    (45.81, 15.97, 18.3),
)
EDGES = (
    (35.2, -111.65, 19.9),
    (-22.56, 17.08, 19.2),
    (47.26, 11.39, 19),
    (47.07, 15.43, 18.8),
    (52.4, 13.06, 19.2),
    (52.16, 4.49, 18.6),
    (46.05, 14.5, 18.7),
    (38.57, -7.9, 19.6),
    (50.72, -3.53, 19.3),
    (34.22, -118.06, 19.3),
    (37.34, -121.64, 20.3),
    (45.85, 11.57, 20.4),
    (44.26, 11.33, 19.9),
)
DARK = (
    (41.663, -77.823, 21.6),
    (36.5, -117.1, 21.75),
    (28.76, -17.88, 21.85),
    (-32.38, 20.81, 21.85),
    (51.15, -3.65, 21.4),
    (-24, 16, 21.93),
    (-24.63, -70.4, 21.9),
    (-29.26, -70.73, 21.85),
    (31.96, -111.6, 21.3),
    (33.36, -116.86, 21.1),
    (30.67, -104.02, 21.85),
    (-31.27, 149.06, 21.9),
    (37.22, -2.55, 21.4),
    (43.93, 5.71, 21.2),
    (42.94, 0.14, 21.4),
    (51.9, -10.3, 21.75),
    (55.1, -4.4, 21.6),
    (55.23, -2.62, 21.5),
    (52.69, 12.3, 21.2),
    (50.45, 10, 21.3),
    (47.6, 21.1, 21.3),
    (42.05, 0.73, 21.5),
    (-43.73, 170.1, 21.85),
    (29.25, -103.25, 21.9),
    (37.6, -110, 21.9),
    (36.06, -112.1, 21.75),
    (37.85, -119.5, 21.7),
    (39, -114.2, 21.9),
    (45.45, -71.15, 21.6),
    (44.35, -68.2, 21.5),
    (41.7, 24.74, 21.4),
    (35.21, 24.9, 21.3),
    (38.5, -7.5, 21.6),
    (23, 54.5, 21.3),
    (-31.9, 20, 21.9),
    (64, -19, 21.93),
    (45, -117, 21.9),
    (-25.3, 131, 21.9),
    (43.5, 104, 21.93),
)


def errors(known):
    return np.array([glow(lat, lon).zenith - zenith for lat, lon, zenith in known])


def rms(x):
    return float(np.sqrt((x**2).mean()))


def test_known_places_are_met_within_the_error_that_is_shown():
    city, edge, dark = (errors(k) for k in (CITIES, EDGES, DARK))
    assert rms(np.r_[city, edge, dark]) < 0.45
    assert rms(dark) < 0.25
    assert np.abs(dark).max() < 0.5
    assert abs(city.mean()) < 0.15  # neither too bright nor too dark as a rule
    for known, off in ((CITIES, city), (DARK, dark)):
        shown = np.array([glow(lat, lon).uncertainty for lat, lon, _ in known])
        assert 0.6 < rms(off / shown) < 1.25


def test_a_hamlet_in_the_desert_hardly_brightens_its_zenith():
    p = places()
    small = next(i for i in np.flatnonzero((p.pop > 900) & (p.pop < 1300)) if alone(p.lat[i], p.lon[i]))
    assert glow(float(p.lat[small]) + 0.009, float(p.lon[small])).zenith > 21.7


def alone(lat, lon):
    p = places()
    near = np.flatnonzero((np.abs(p.lat - lat) < 1) & (np.abs(p.lon - lon) < 1.5))
    return len(near) == 1


@pytest.mark.parametrize(
    ("lat", "lon", "most"), [(40.71, -74.0, 13e6), (1.29, 103.85, 6.5e6), (51.507, -0.128, 11e6)]
)
def test_districts_are_not_counted_beside_their_city(lat, lon, most):
    p = places()
    _, distance = bearing_distance(lat, lon, p.lat, p.lon)
    near = distance < 20
    assert p.pop[near].sum() > 1.3 * most
    assert 0.4 * most < p.own[near].sum() < most


def test_the_largest_towns_are_named_by_their_city_and_share_all_the_light():
    found = glow(40.71, -74.0)
    assert found.towns[0].name == "New York City"
    assert found.towns[0].share > 0.9
    assert sum(t.share for t in glow(38.6, -8.77).towns) <= 1.001


def test_names_are_kept_as_one_text():
    names = Names("Vila\nČeský Krumlov\n\n東京")
    assert list(names) == ["Vila", "Český Krumlov", "", "東京"] and names[1:3] == ["Český Krumlov", ""]
    with pytest.raises(IndexError):
        names[4]
    assert len(places().names) == len(places().lat)


def test_town_light_over_the_sky_is_as_every_town_gives_it_and_has_neither_facets_nor_terraces():
    """Against the sum over all towns; its slope turns by no more than 0.012 a degree anywhere."""
    site = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
    light, towns = town_light(site), glow(site.lat, site.lon)
    altitude, azimuth = (v.ravel() for v in np.meshgrid(np.arange(0, 90, 4.3), np.arange(0, 360, 11.7)))
    every = direction_factor(altitude[:, None], azimuth[:, None] - towns.azimuth, towns.distance)
    wanted = every @ towns.weight / towns.weight.sum()
    assert light.factor(altitude, azimuth) == pytest.approx(wanted, rel=0.03)
    up = np.arange(0.0, 90.01, 1.0)
    for side in range(0, 360, 7):
        slope = np.diff(np.log(light.factor(up, np.full_like(up, float(side)))))
        assert np.abs(np.diff(slope)).max() < 0.012
