"""The simulated phone at the desk: darks, flats and focus sweeps of a lens whose true figures are known."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens
from vinter.core.formats.dng import DngInfo, write_dng
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import digitise
from vinter.core.simulate.phone import BLACK, SimulatedPhone, row_noise
from vinter.core.simulate.raw_colour import MATRIX, NEUTRAL

HOT_SHARE, HOT_RATE = 2e-4, 40.0
GLOW_E_S = 3.0  # electrons per second of amp glow in the lower right corner
F32 = npt.NDArray[np.float32]


def _write(lens: Lens, iso: int, seconds: float, electrons: F32, seed: int, folder: Path, name: str) -> Path:
    rng = np.random.default_rng([seed, 41])
    black, white = BLACK[lens.bits], 2**lens.bits - 1
    gain = (white - black) / lens.full_scale(iso)
    out = np.empty(electrons.shape, np.uint16)
    digitise(
        electrons + row_noise(electrons.shape[0], lens.noise_at(iso), np.random.default_rng([seed, 42])),
        rng.standard_normal(electrons.shape, np.float32),
        lens.noise_at(iso),
        gain,
        black - gain * lens.dark_current * seconds,
        white,
        out,
    )
    info = DngInfo(
        make="Marlet",
        model="Marlet 7",
        iso=iso,
        exposure_s=seconds,
        aperture=lens.aperture,
        focal_mm=lens.focal,
        f35=lens.f35,
        time=1.8e9 + seed,
        utc_offset="+00:00",
        black=black,
        white=white,
        neutral=NEUTRAL,
        matrix=MATRIX,
    )
    path = folder / name
    preview = np.zeros((60, 80, 3), np.uint8)
    write_dng(path, out, info, preview, True)
    return path


def darks(
    lens: Lens, iso: int, seconds: float, count: int, folder: Path, seed: int = 1, glow: bool = True
) -> list[Path]:
    """Dark frames as DNG: dark current, hot pixels, and amp glow in the lower right corner."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng([seed, 40])
    electrons = np.full((lens.height, lens.width), lens.dark_current * seconds, np.float32)
    where = rng.choice(electrons.size, int(electrons.size * HOT_SHARE), replace=False)
    electrons.ravel()[where] += (HOT_RATE * seconds * rng.uniform(0.5, 1.5, where.size)).astype(np.float32)
    if glow:
        y, x = np.mgrid[0 : 1 : lens.height * 1j, 0 : 1 : lens.width * 1j]
        electrons += (GLOW_E_S * seconds * np.exp(-((1 - y) ** 2 + (1 - x) ** 2) / 0.02)).astype(np.float32)
    return [
        _write(lens, iso, seconds, electrons, seed * 1000 + i, folder, f"dark_{i:03d}.dng")
        for i in range(count)
    ]


def flats(lens: Lens, iso: int, level: float, pairs: int, folder: Path, seed: int = 1) -> list[Path]:
    """Pairs of flats at a level (share of full scale) and brighter ones, as DNG, with a gentle fall-off to
    the corners."""
    folder.mkdir(parents=True, exist_ok=True)
    y, x = np.mgrid[-1 : 1 : lens.height * 1j, -1 : 1 : lens.width * 1j]
    light = (1 - 0.25 * (x * x + y * y) / 2).astype(np.float32) * np.float32(lens.full_scale(iso))
    out = []
    for i in range(pairs):
        share = min(level * (1 + 0.5 * i), 0.8)
        lit = light * np.float32(share)
        out += [
            _write(lens, iso, 0.01, lit, seed * 1000 + 2 * i + j, folder, f"flat_{i:02d}_{j}.dng")
            for j in (0, 1)
        ]
    return out


def focus_sweep(burst: Burst, ticks: list[int], folder: Path) -> list[tuple[int, Path]]:
    """One frame of the night sky at each focus tick (counted back from the end mark), as DNG."""
    folder.mkdir(parents=True, exist_ok=True)
    out = []
    for tick in ticks:
        camera = SimulatedPhone(
            replace(burst, count=1, focus_error=float(tick - burst.lens.infinity_ticks), traffic=False)
        )
        path = camera.write(0, folder)
        out.append((tick, path.rename(folder / f"tick_{tick:+03d}.dng")))
    return out
