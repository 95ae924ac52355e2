"""What a pool process does for a take: shoot a frame, measure a frame, make it visible. No database here."""

from dataclasses import asdict, replace
from functools import lru_cache
from pathlib import Path

import cv2

from vinter.core.errors import BadInput
from vinter.core.finite import finite
from vinter.core.formats.pictures import write_jpeg
from vinter.core.formats.whole import no_room
from vinter.core.frames.content import FILMS
from vinter.core.frames.decoding import decoded
from vinter.core.frames.film_reading import film_frame, film_pictures
from vinter.core.frames.frame import Frame
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.preview import preview, thumbnail
from vinter.core.frames.reading import named
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.versions import Data


@lru_cache(maxsize=1)
def _phone(burst: Burst) -> SimulatedPhone:
    return SimulatedPhone(burst)


def shoot_frame(burst: Burst, i: int, folder: Path) -> str:
    """Render one frame of a burst into a folder; returns the file's name."""
    cv2.setNumThreads(1)
    return _phone(burst).write(i, folder).name


def _opened(path: Path, label: str) -> tuple[Frame, int]:
    """A file's frame; of a film a picture of its second half, and how many it holds."""
    if path.suffix.lower() not in FILMS:
        return decoded(path, label), 1
    seen, shown = 0, None
    for seen, picture in enumerate(film_pictures(path, label), 1):
        if seen & (seen - 1) == 0:  # 1, 2, 4, 8 …: the last of them lies in the film's second half
            shown = picture
    assert shown is not None
    return film_frame(shown, path, label), seen


def measure_file(path: Path, label: str, previews: Path) -> Data:
    """Measure one file and write a thumbnail and a full-size look; {"error"} when it cannot be read."""
    cv2.setNumThreads(1)
    try:
        frame, pictures = _opened(path, label)
        with named(label):
            data, plane = clean(frame)
            found = asdict(replace(measure(frame, (data, plane)), pictures=pictures))
            frame = replace(frame, data=data)  # of a large frame nothing is held longer than it is needed
            del plane
            picture = preview(frame, data, found["background"])
        write_jpeg(previews / f"{path.stem}.jpg", picture, quality=82)
        write_jpeg(previews / f"{path.stem}.small.jpg", thumbnail(picture), quality=85)
        return finite({**found, "file": label})
    except BadInput as error:
        return {"error": str(error)}
    except MemoryError:
        return {"error": f"{label}: measuring it needs more memory than is free"}
    except OSError as error:
        if no_room(error):  # not the file's fault
            raise
        return {"error": f"{label}: {error.strerror or error}"}
