"""The camera of the DNG files that tests write."""

from vinter.core.formats.dng import DngInfo

INFO = DngInfo(
    make="Marlet",
    model="Marlet 7",
    iso=800,
    exposure_s=8.0,
    aperture=1.8,
    focal_mm=5.6,
    f35=24,
    time=1812589930.25,
    utc_offset="+02:00",
)
