"""The first pass: master frames made, every frame read, cleaned and measured once."""

from importlib import import_module
from pathlib import Path
from typing import cast

from vinter.core.errors import BadInput
from vinter.core.stack.ingest import Ingested, Masters, ingest, master_frame
from vinter.core.stack.registration.groups import in_order
from vinter.core.stack.run import Run
from vinter.core.stack.settings import Settings
from vinter.core.stage_cache import StageCache, key_of, stamp


def _masters(settings: Settings, cache: StageCache) -> tuple[Masters, str]:
    """Master frames on disk, and the key of all calibration frames they come from."""
    key = key_of(
        "masters", *([stamp(p) for p in group] for group in (settings.bias, settings.darks, settings.flats))
    )

    def made(paths: tuple[Path, ...], name: str, relative: bool, below: Path | None = None) -> Path | None:
        path = cache.path(key, f".{name}.npy")
        if not paths:
            return None
        return path if path.exists() else master_frame(list(paths), path, relative, below)

    bias = made(settings.bias, "bias", False)
    return Masters(made(settings.darks, "dark", False) or bias, made(settings.flats, "flat", True, bias)), key


def _load_ahead() -> None:
    """Load while the pool reads what takes long to load and is needed next."""
    for name in ("scipy.optimize", "scipy.spatial"):
        import_module(name)


def _first_pass(
    run: Run, paths: list[Path], masters: Masters, calibration: str, span: tuple[float, float], name: str
) -> list[Ingested]:
    """Frames read, cleaned and measured, or found in the cache; those that cannot be read say so."""
    keys = [key_of("frame", stamp(p), calibration) for p in paths]
    found = [cast(Ingested | None, run.cache.found(k)) for k in keys]
    whole = [f is not None and not f.error and f.spill.exists() for f in found]
    futures = {
        run.pool.submit(ingest, p, run.cache.path(k, ".npy"), masters): i
        for i, (p, k, ok) in enumerate(zip(paths, keys, whole, strict=True))
        if not ok
    }
    _load_ahead()
    for i, done in run.gather(futures, "reading and finding stars", *span):
        found[i] = done
        if not done.error:  # what failed may have failed for want of memory: it is tried again
            run.cache.keep(keys[i], done)
    run.reused[name] = sum(whole)
    return [f for f in found if f is not None]


def read_frames(
    run: Run, files: list[Path]
) -> tuple[list[Ingested], list[Ingested], list[Ingested], list[str]]:
    """Frames that could be read in order of time, those that could not, the ground's own, and the keys of the
    first."""
    masters, calibration = _masters(run.settings, run.cache)
    grounds = [p for p in run.settings.ground_frames if run.settings.ground in ("own", "focus")]
    ground_paths = {p.resolve() for p in grounds}
    files = [p for p in files if p.resolve() not in ground_paths]
    share = 0.4 * len(files) / max(len(files) + len(grounds), 1)
    done = _first_pass(run, files, masters, calibration, (0.0, share), "frames")
    own = _first_pass(run, grounds, masters, calibration, (share, 0.4), "ground_frames")
    good, bad = [f for f in done if not f.error], [f for f in done if f.error]
    if not good:
        raise BadInput(
            "no frame could be read: " + "; ".join(b.error for b in bad[:5])
            if bad
            else "no frame of the sky is left"
        )
    good = in_order(good)
    return good, bad, own, [key_of(stamp(f.path), calibration) for f in good]
