"""Phones as JSON files, and lenses from what a photo says of itself."""

import json
from dataclasses import asdict, fields
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from vinter.core.camera.phones import READ_NOISE, Lens, Phone
from vinter.core.constants import FULL_FRAME_DIAGONAL_MM
from vinter.core.errors import BadInput
from vinter.core.json_input import read_json
from vinter.core.versions import Data, Schema

FILE_KIND = "vinter-phone"
PACKED = 0.8  # size of a RAW file against its bits: lossless packing, with a preview


class _PhoneFile(BaseModel):
    model_config = ConfigDict(extra="forbid")
    kind: str
    key: str = Field(min_length=1, max_length=40, pattern=r"^[a-z0-9-]+$")
    name: str = Field(min_length=1, max_length=60)
    lenses: dict[str, dict[str, Any]] = Field(min_length=1, max_length=8)


LENS = Schema("lens of a phone")


def lens_from(data: Data) -> Lens:
    """A lens from plain data (lists where it has tuples); BadInput names a field that is unknown or out of
    bounds."""
    data = {name: value for name, value in data.items() if name != "version"}
    known = {f.name for f in fields(Lens)}
    unknown = sorted(set(data) - known)
    if unknown:
        raise BadInput(f"lens field {unknown[0]!r} is not known")
    try:
        steps = tuple((int(iso), float(noise)) for iso, noise in data.get("read_noise", READ_NOISE))
        square, fourth, known_to = (float(value) for value in data.get("fall_off", (0.0, 0.0, 0.0)))
        kinds = tuple(data.get("raw_kinds", ("sensor",)))
        return Lens(
            **{**data, "read_noise": steps, "raw_kinds": kinds, "fall_off": (square, fourth, known_to)}
        )
    except (TypeError, ValueError) as error:
        raise BadInput(f"lens {data.get('name', '')!r}: {error}") from error


def read_phone(text: str, name: str) -> Phone:
    """A phone from its JSON file; BadInput says what is wrong in the file called ``name``."""
    try:
        found = _PhoneFile.model_validate(read_json(text, name))
    except (ValueError, ValidationError) as error:
        first = error.errors()[0] if isinstance(error, ValidationError) else None
        where = f"{'.'.join(map(str, first['loc']))}: {first['msg']}" if first else str(error)
        raise BadInput(f"{name}: not a phone file ({where})") from error
    if found.kind != FILE_KIND:
        raise BadInput(f"{name}: not a phone file (kind is {found.kind!r})")
    try:
        return Phone(
            found.key,
            found.name,
            {label: lens_from({**data, "name": label}) for label, data in found.lenses.items()},
        )
    except BadInput as error:
        raise BadInput(f"{name}: {error}") from error


def phone_text(phone: Phone) -> str:
    """A phone as the JSON that ``read_phone`` reads."""
    return json.dumps(
        {
            "kind": FILE_KIND,
            "key": phone.key,
            "name": phone.name,
            "lenses": {name: asdict(lens) for name, lens in phone.lenses.items()},
        },
        indent=1,
    )


def lens_from_photo(
    name: str,
    focal: float | None,
    f35: float | None,
    aperture: float | None,
    width: int,
    height: int,
    bits: int = 10,
) -> Lens:
    """A lens from a photo's metadata: true and equivalent focal length (mm), f-number, and the picture's size
    in px.

    The pitch follows from the equivalent focal length by the diagonal, good to the rounding of that number (2
    to 4 %). BadInput names what the photo does not say.
    """
    missing = [
        label
        for label, value in (("focal length", focal), ("35 mm equivalent", f35), ("f-number", aperture))
        if not value
    ]
    if missing:
        raise BadInput(f"the photo does not say its {' and '.join(missing)}; enter the lens by hand")
    assert focal and f35 and aperture
    diagonal_mm = FULL_FRAME_DIAGONAL_MM * focal / f35
    pitch = diagonal_mm * 1000 / float(np.hypot(width, height))
    return Lens(
        name=name,
        focal=round(focal, 3),
        f35=round(f35, 1),
        aperture=round(aperture, 2),
        pitch=round(pitch, 3),
        width=max(width, height),
        height=min(width, height),
        bits=bits,
        raw_megabytes=round(width * height * bits / 8 / 1e6 * PACKED, 1),
        measured="focal length, f-number and pixels from a photo",
    )
