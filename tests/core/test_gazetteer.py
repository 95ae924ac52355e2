"""Places by their names: accents, order, and where time zones lie."""

import pytest

from vinter.core.ground.gazetteer import find_places, plain, zone_places


@pytest.mark.parametrize(
    ("text", "country", "lat"),
    [("odemira", "PT", 37.6), ("Calvinia", "ZA", -31.5), ("são paulo", "BR", -23.5)],
)
def test_a_name_is_found_first(text, country, lat):
    found = find_places(text)[0]
    assert found.country == country and found.lat == pytest.approx(lat, abs=0.2)
    assert find_places(text.upper())[0] == found


def test_what_lies_near_comes_before_what_is_large():
    far, near = find_places("odem")[0], find_places("odem", (37.7, -8.77))
    assert near[0].name == "Odem" or near[0].name == "Odemira"
    assert next(p for p in near if p.name == "Odemira").distance_km == pytest.approx(16, abs=2)
    assert far.distance_km is None
    vienna = find_places("vienna", (38.9, -77.3))
    assert {p.country for p in vienna[:2]} == {"US"} or vienna[0].country == "US"


def test_later_words_count_and_pieces_of_words_do_not():
    assert any("Paulo" in p.name for p in find_places("paulo"))
    assert not any("João de Meriti" in p.name for p in find_places("odemer"))
    assert find_places("x") == [] and find_places("") == []
    assert plain("Vila Nova de Milfontes, São-Luís") == "vila nova de milfontes sao luis"


def test_every_zone_of_the_table_has_a_place():
    zones = zone_places()
    assert len(zones) > 300 and all(abs(lat) <= 90 and abs(lon) <= 180 for lat, lon in zones.values())
    assert zones["Europe/Lisbon"] == pytest.approx((38.717, -9.133), abs=0.01)
