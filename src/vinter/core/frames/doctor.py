"""What Vinter understands of a file, and what not, in plain words: to look at when a phone's files do not
work."""

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from PIL import Image

from vinter.core.errors import BadInput
from vinter.core.frames.content import FILMS, FRAMES, Reader, content_words, kinds_of
from vinter.core.frames.decoding import decoded
from vinter.core.frames.film_metadata import film_metadata
from vinter.core.frames.film_reading import film_pictures
from vinter.core.frames.frame import Frame
from vinter.core.frames.gain_map import gain_map
from vinter.core.frames.measuring import measure
from vinter.core.frames.metadata import Metadata, TimeSource
from vinter.core.frames.profiles import profile_name
from vinter.core.frames.reading import named
from vinter.core.ground.zones import zone_at
from vinter.core.words import count_of, spoken_seconds


@dataclass(frozen=True)
class Finding:
    """One thing of a file: what it is about, whether it was understood, and the words."""

    topic: str
    understood: bool
    words: str


def examine_file(path: Path) -> list[Finding]:
    """Everything that is understood of a file and what is not, in the order in which it is read."""
    out = []
    try:
        with path.open("rb") as file:
            start = file.read(64)
        size = path.stat().st_size
    except OSError as error:
        return [Finding("file", False, f"{path.name}: {error.strerror}")]
    kind, suffix = content_words(start), path.suffix.lower()
    much = f"{size / 1e6:.1f} MB" if size >= 1e5 else count_of(size, "byte")
    known = f"{much}, by its first bytes {kind}" if kind else f"{much}, of no known kind"
    out.append(Finding("file", bool(kind), known))
    if suffix not in FRAMES | FILMS:
        out.append(Finding("name", False, f"files that end in {suffix or 'nothing'} are not read"))
    if suffix in FILMS and any(one.reader == Reader.FILM for one in kinds_of(start)):
        return [*out, *_film(path)]
    try:
        with named(path.name):
            frame = decoded(path)
            m = measure(frame)
    except BadInput as error:
        return [*out, Finding("pixels", False, str(error))]
    out += _pixels(frame)
    out += _settings(frame)
    out += [Finding("correction", not note.words.startswith("not"), note.words) for note in frame.notes]
    if frame.warp is not None:
        out.append(Finding("lens warp", True, f"moves corners by {frame.warp.most_px(frame.size):.0f} px"))
    if frame.kind == "picture" and suffix not in (".tif", ".tiff"):
        with Image.open(path) as image:
            out.append(Finding("colour", True, f"{profile_name(image)}, converted to sRGB"))
            many = int(getattr(image, "n_frames", 1))
        if (found := gain_map(path)) is not None:
            words = (
                f"up to {found.most.max():.1f} EV beyond white, used where this picture is finished by itself"
            )
            out.append(Finding("gain map", True, words))
        if many > 1:
            out.append(Finding("pictures", True, f"{many} in the file; the first is taken"))
    words = {"sensor": "true sensor data", "processed": "processed", "unknown": "cannot be told"}[m.raw]
    out.append(Finding("RAW", m.raw != "unknown", f"{words}: {'; '.join(m.raw_reasons)}"))
    sky = f"sky at {100 * m.background:.2f} % of full scale"
    wide = f"{m.fwhm_px:.1f} px wide" if m.fwhm_px > 0 else "too few to tell their width"
    judged = f"{count_of(m.stars, 'star')}, {wide}; {sky}"
    out.append(Finding("stars", m.stars > 0, judged))
    out.append(Finding("verdict", True, f"{m.verdict}{': ' if m.reasons else ''}{'; '.join(m.reasons)}"))
    return out


def _pixels(frame: Frame) -> list[Finding]:
    width, height = frame.size
    kinds = {"bayer": "a Bayer mosaic", "linear": "linear RGB", "picture": "a finished picture"}
    out = [
        Finding("pixels", True, f"{width} × {height}, {kinds.get(frame.kind, frame.kind)}, turned upright")
    ]
    if frame.pattern is not None:
        letters = "".join("RGB"[int(v)] for v in frame.pattern.ravel())
        black = ", ".join(f"{v:g}" for v in sorted(set(frame.black.ravel().tolist())))
        out.append(Finding("levels", True, f"pattern {letters}, black {black}, white {frame.white:g}"))
        matrix = any(abs(v) > 0 and v != 1 for row in frame.colour.matrix for v in row)
        words = (
            "white balance and colour matrix found" if matrix else "no colour matrix: colours will be rough"
        )
        out.append(Finding("colour", matrix, words))
    return out


SILENT = "the file does not say"


def _film(path: Path) -> list[Finding]:
    """What is understood of a film: its pictures."""
    try:
        count, shape = 0, (0, 0, 0)
        for picture in film_pictures(path, path.name):
            count, shape = count + 1, picture.shape
    except BadInput as error:
        return [Finding("pixels", False, str(error))]
    meta = film_metadata(path)
    return [
        Finding(
            "pixels",
            True,
            f"a film of {count_of(count, 'picture')}, {shape[1]} × {shape[0]}, as it says turned upright",
        ),
        Finding("use", True, "stacked by its sharpest pictures, as of the Moon"),
        Finding("camera", bool(meta.camera), meta.camera or SILENT),
        Finding("place", bool(meta.place), _place_words(meta) or SILENT),
        Finding("time", bool(meta.time_source), _time_words(meta)),
    ]


def _settings(frame: Frame) -> list[Finding]:
    m = frame.meta
    shown = {
        "camera": m.camera,
        "lens": m.lens,
        "ISO": "" if m.iso is None else str(m.iso),
        "exposure": "" if m.exposure_s is None else spoken_seconds(m.exposure_s),
        "aperture": "" if m.aperture is None else f"f/{m.aperture:g}",
        "focal length": ""
        if m.focal_mm is None
        else f"{m.focal_mm:g} mm" + (f", {m.f35:g} mm equivalent" if m.f35 else ", no 35 mm equivalent"),
        "place": _place_words(m),
        "direction": ""
        if m.direction is None
        else f"azimuth {m.direction:.0f}°, {'as a compass shows it' if m.magnetic else 'from true north'}",
    }
    return [
        *(Finding(k, bool(v), v or SILENT) for k, v in shown.items()),
        Finding("time", bool(m.time_source), _time_words(m)),
    ]


def _place_words(m: Metadata) -> str:
    return "" if m.place is None else f"{m.place[0]:.4f}, {m.place[1]:.4f}"


def _time_words(m: Metadata) -> str:
    """When it was taken, and how that is known."""
    if m.time is None:
        return "the file does not say"
    shown = f"{datetime.fromtimestamp(m.time, UTC):%Y-%m-%d %H:%M:%S}"
    if m.time_source:
        return f"{shown} UTC, from {m.time_source.value}"
    if m.place is not None:
        zone = zone_at(*m.place)
        known = m.at_home_in(ZoneInfo(zone), TimeSource.PLACE)
        utc = datetime.fromtimestamp(known.time or 0, UTC)
        return f"{shown} local time; its place is in {zone}, so {utc:%H:%M} UTC"
    return f"{shown} local time; the file names no zone, so give one"
