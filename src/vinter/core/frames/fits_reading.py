"""Pictures in FITS as frames: grey or colour, linear, with the time and place that their headers tell."""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.metadata import Metadata, TimeSource, believable

FULL = 65535.0
HIGHEST = 1.5  # largest float value that is still a share of full scale


def fits_values(
    path: Path, check: Callable[[Path, int, int], None]
) -> tuple[npt.NDArray[np.uint16], Metadata]:
    """Upright RGB in 16 bits (h, w, 3) and metadata of a FITS file's first picture; ``check`` is told its
    size. BadInput when it holds none."""
    from astropy.io import fits

    try:
        with fits.open(path, memmap=False) as file:
            for unit in file:
                shape: tuple[int, ...] = getattr(unit, "shape", ())
                if len(shape) in (2, 3):
                    break
            else:
                raise BadInput(f"{path.name}: a FITS file without a picture")
            check(path, shape[-1], shape[-2])
            return _as_rgb(np.asarray(unit.data), path), _metadata(unit.header)
    except (OSError, ValueError, TypeError, KeyError, fits.VerifyError) as error:
        raise BadInput(f"{path.name}: not a FITS file that can be read ({error})") from error


def _as_rgb(data: npt.NDArray[np.generic], path: Path) -> npt.NDArray[np.uint16]:
    if data.ndim == 3 and data.shape[0] not in (1, 3):
        raise BadInput(f"{path.name}: a FITS cube of {data.shape[0]} planes is neither grey nor colour")
    shown = np.moveaxis(data, 0, -1) if data.ndim == 3 else data[..., None]
    planes = np.nan_to_num(shown[::-1].astype(np.float64))  # rows are stored from the bottom
    if np.issubdtype(data.dtype, np.floating):
        top = float(planes.max(initial=0.0))
        planes = planes * (FULL if top <= HIGHEST else FULL / top)
    elif data.dtype == np.uint8:
        planes = planes * 257
    low = min(float(planes.min(initial=0.0)), 0.0)
    out = np.clip(planes - low + 0.5, 0, FULL).astype(np.uint16)
    return np.ascontiguousarray(np.repeat(out, 3, axis=2) if out.shape[2] == 1 else out)


def _metadata(header: Mapping[str, str | float | None]) -> Metadata:
    def number(*names: str) -> float | None:
        for name in names:
            try:
                value = float(header[name] or "")
            except (KeyError, TypeError, ValueError):
                continue
            if np.isfinite(value):
                return value
        return None

    lat, lon = (
        number("SITELAT", "GLAT", "OBSGEO-B", "LAT-OBS"),
        number("SITELONG", "GLON", "OBSGEO-L", "LONG-OBS"),
    )
    iso, time = number("ISOSPEED", "ISO"), _time(header)
    return Metadata(
        make="",
        model=str(header.get("INSTRUME") or header.get("CAMERA") or "").strip(),
        iso=int(iso) if iso else None,
        exposure_s=number("EXPTIME", "EXPOSURE"),
        aperture=number("FNUMBER", "FOCRATIO"),
        focal_mm=number("FOCALLEN"),
        time=time,
        time_source=TimeSource.WRITTEN if time is not None else TimeSource.UNKNOWN,
        local=time,
        place=(lat, lon)
        if lat is not None and lon is not None and abs(lat) <= 90 and abs(lon) <= 180
        else None,
    )


def _time(header: Mapping[str, str | float | None]) -> float | None:
    """Unix seconds of a header's start of the exposure, which FITS gives in UTC."""
    day = str(header.get("DATE-OBS") or "").strip()
    if "T" not in day and header.get("TIME-OBS"):
        day = f"{day}T{str(header['TIME-OBS']).strip()}"
    parts = (str(header.get(name) or "").strip() for name in ("OBSDATE", "OBSSTART"))
    for text in (day, "T".join(parts)):
        try:
            found = datetime.fromisoformat(text.rstrip("Z")).replace(tzinfo=UTC).timestamp()
        except (ValueError, OverflowError):
            continue
        if believable(found) and len(text) > 10:
            return found
    return None
