"""When and where a film was taken: boxes written here byte by byte, as ISO/IEC 14496-12 lays them out."""

import struct
from datetime import UTC, datetime

import pytest

from vinter.core.frames.film_metadata import film_metadata, place_of
from vinter.core.frames.motion import film_inside

SHOT = datetime(2019, 12, 20, 20, 8, 34, tzinfo=UTC).timestamp()


def box(kind, data):
    return struct.pack(">I4s", 8 + len(data), kind) + data


def header(unix, version=0):
    since = int(unix) + 2082844800
    return box(
        b"mvhd",
        bytes([version, 0, 0, 0]) + struct.pack(">QQ" if version else ">II", since, since) + bytes(80),
    )


def keyed(**values):
    names = b"".join(struct.pack(">I4s", 8 + len(n), b"mdta") + n.encode() for n in values)
    held = b"".join(
        struct.pack(">I", 8 + 16 + len(v.encode()))
        + struct.pack(">I", i)
        + box(b"data", struct.pack(">II", 1, 0) + v.encode())
        for i, v in enumerate(values.values(), 1)
    )
    return box(b"meta", box(b"keys", struct.pack(">II", 0, len(values)) + names) + box(b"ilst", held))


def film(tmp_path, *inside):
    path = tmp_path / "film.mp4"
    path.write_bytes(
        box(b"ftyp", b"isom" + bytes(8)) + box(b"mdat", bytes(500)) + box(b"moov", b"".join(inside))
    )
    return path


@pytest.mark.parametrize("version", [0, 1])
def test_creation_time_and_place_of_a_usual_film(tmp_path, version):
    place = box(b"udta", box(b"\xa9xyz", struct.pack(">HH", 18, 0x15C7) + b"-15.8355-048.0153/"))
    found = film_metadata(film(tmp_path, header(SHOT, version), place))
    assert (found.time, found.place) == (SHOT, (-15.8355, -48.0153))
    assert found.time_source.value == "the film's creation time"


def test_a_date_with_its_zone_wins_over_the_header(tmp_path):
    said = keyed(
        **{
            "com.maker.creationdate": "2027-06-10T01:38:50+0100",
            "com.maker.location.ISO6709": "+37.7020-008.7720+006.0/",
            "com.maker.make": "Marlet",
            "com.maker.model": "Marlet 7",
        }
    )
    found = film_metadata(film(tmp_path, header(SHOT), said))
    assert found.time == datetime(2027, 6, 10, 0, 38, 50, tzinfo=UTC).timestamp()
    assert found.local - found.time == 3600 and found.camera == "Marlet 7"
    assert found.place == (37.702, -8.772) and found.time_source.value == "the zone written in the file"


def test_a_header_that_was_never_set_and_broken_files_say_nothing(tmp_path):
    assert film_metadata(film(tmp_path, header(-2082844800))).time is None
    path = tmp_path / "broken.mp4"
    whole = film(tmp_path, header(SHOT)).read_bytes()
    for cut in range(0, len(whole), 7):
        path.write_bytes(whole[:cut])
        film_metadata(path)  # whatever is missing
    for size in (0, 1, 7, 2**31):
        path.write_bytes(struct.pack(">I4s", size, b"moov") + whole)
        film_metadata(path)


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("+37.7020-008.7720/", (37.702, -8.772)),
        ("-15.8355-048.0153+1021.0/", (-15.8355, -48.0153)),
        ("+95.0-008.7/", None),
        ("north", None),
    ],
)
def test_places_as_films_write_them(text, place):
    assert place_of(text) == place


@pytest.mark.parametrize("trailer", [b"", b"SEFT" + bytes(40)])
def test_the_film_behind_a_still_is_found(tmp_path, trailer):
    still = b"\xff\xd8" + b"ftyp is also text here " * 30 + b"\xff\xd9"
    inside = film(tmp_path, header(SHOT)).read_bytes()
    path = tmp_path / "moving.jpg"
    path.write_bytes(still + inside + trailer)
    assert film_inside(path) == (len(still), len(still) + len(inside))
    path.write_bytes(still + inside[:-9])
    assert film_inside(path) is None
    path.write_bytes(still)
    assert film_inside(path) is None


def test_a_film_by_itself_holds_no_other(tmp_path):
    assert film_inside(film(tmp_path, header(SHOT))) is None
