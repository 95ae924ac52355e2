"""Write a folder of hostile and odd files, and see what Vinter says of each.

usage: tools/hostile_files.py DIR [--inspect]
writes them, always the same ones; with --inspect it also runs `vinter inspect` on the folder and prints what
came of each.

Good frames with flipped bits, cut off, with tags that lie; pictures of every depth and layout; bombs that are
small on the disk and large in memory; names that are no names. Every one of them must be answered with
measures or one sentence.
"""

import json
import random
import resource
import struct
import subprocess
import sys
import time
import zlib
from collections.abc import Callable, Iterator
from io import BytesIO
from pathlib import Path

import numpy as np
import tifffile
from PIL import Image

from vinter.core.formats.dng import DngInfo, write_dng
from vinter.core.formats.lineardng import write_linear_dng

WIDTH, HEIGHT = 480, 360
INFO = DngInfo(
    make="Marlet",
    model="Marlet 7",
    iso=800,
    exposure_s=8.0,
    aperture=1.8,
    focal_mm=5.6,
    f35=24,
    time=1812589930.25,
)


def _sky(seed: int) -> np.ndarray:
    """Noise and stars as a sensor gives them."""
    dice = np.random.default_rng(seed)
    out = dice.normal(500, 12, (HEIGHT, WIDTH))
    for x, y in zip(dice.integers(4, WIDTH - 4, 150), dice.integers(4, HEIGHT - 4, 150), strict=True):
        out[y - 1 : y + 2, x - 1 : x + 2] += 900
    return np.clip(out, 0, 4095).astype(np.uint16)


def _dng(folder: Path, compress: bool) -> bytes:
    path = folder / ".good.dng"
    write_dng(path, _sky(1), INFO, np.zeros((60, 80, 3), np.uint8), compress)
    data = path.read_bytes()
    path.unlink()
    return data


def _written(kind: str, picture: Image.Image, **how: object) -> bytes:
    out = BytesIO()
    picture.save(out, kind, **how)
    return out.getvalue()


def _tiff(values: np.ndarray, **how: object) -> bytes:
    out = BytesIO()
    tifffile.imwrite(out, values, **how)
    return out.getvalue()


def _tags(tags: list[tuple[int, int, int, int]], tail: bytes = b"\0" * 400) -> bytes:
    """A TIFF of one directory and some bytes after it."""
    body = b"".join(struct.pack("<HHII", *t) for t in sorted(tags))
    return struct.pack("<2sHIH", b"II", 42, 8, len(tags)) + body + struct.pack("<I", 0) + tail


def _mutated(good: bytes, name: str, count: int) -> Iterator[tuple[str, bytes]]:
    """Bits flipped, parts cut out, doubled or overwritten; more of it near the beginning, where the tags
    are."""
    for i in range(count):
        dice = random.Random(f"{name} {i}")
        data = bytearray(good)
        for _ in range(1 + dice.randrange(12)):
            end = min(len(data), 3000) if dice.random() < 0.7 else len(data)
            at = dice.randrange(4, end)
            what = dice.randrange(4)
            if what == 0:
                data[at] ^= 1 << dice.randrange(8)
            elif what == 1:
                data[at : at + 4] = dice.choice(
                    (b"\xff" * 4, b"\0" * 4, b"\xff\xff\xff\x7f", dice.randbytes(4))
                )
            elif what == 2:
                del data[at : at + dice.randrange(1, 200)]
            else:
                data[at:at] = data[at : at + dice.randrange(1, 200)]
        yield f"mutated-{i:03d}-{name}", bytes(data)


def _cut(good: bytes, name: str, count: int) -> Iterator[tuple[str, bytes]]:
    for i in range(count):
        yield f"cut-{i:02d}-{name}", good[: 5 + i * len(good) // count]


def _lying(good: bytes) -> Iterator[tuple[str, bytes]]:
    """A good RAW file in which one tag says something else."""
    values = (0, 1, 255, 65535, 2**31 - 1, 2**32 - 1)
    for tag in (256, 257, 258, 259, 262, 274, 277, 322, 323, 33421, 33422, 50714, 50717):
        at = good.find(struct.pack("<H", tag), 8)
        for value in values if at > 0 else ():
            yield f"tag-{tag}-{value}.dng", good[: at + 8] + struct.pack("<I", value) + good[at + 12 :]


def _forged_sizes() -> Iterator[tuple[str, bytes]]:
    """Small files that say they are large."""
    row = [(256, 4, 1, 30000), (257, 4, 1, 30000), (258, 3, 1, 8), (259, 3, 1, 1), (262, 3, 1, 1)]
    row += [(273, 4, 1, 200), (277, 3, 1, 3), (278, 4, 1, 30000), (279, 4, 1, 100)]
    yield "bomb-header.tif", _tags(row)
    jpeg = bytearray(_written("JPEG", Image.new("RGB", (640, 480))))
    at = jpeg.find(b"\xff\xc0")
    jpeg[at + 5 : at + 9] = struct.pack(">HH", 65500, 65500)
    yield "bomb.jpg", bytes(jpeg)
    wide = [(t, k, n, 2**31 - 1 if t == 256 else v) for t, k, n, v in row]
    yield "bomb-wide.tif", _tags(wide)


def _bombs() -> Iterator[tuple[str, bytes]]:
    """Small on the disk, large in memory."""
    yield "bomb-flat.tif", _tiff(np.zeros((14000, 14000, 3), np.uint8), photometric="rgb", compression="zlib")
    yield "bomb-grey.tif", _tiff(np.zeros((14000, 14000), np.uint8), compression="zlib")
    yield "bomb-float.tif", _tiff(np.zeros((9000, 9000), np.float64), compression="zlib")
    yield (
        "bomb-pages.tif",
        _tiff(np.zeros((300, 900, 900), np.uint8), photometric="minisblack", compression="zlib"),
    )
    raw = zlib.compress(b"\0" * (30001 * 30000), 9)

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 30000, 30000, 8, 0, 0, 0, 0))
    yield "bomb.png", b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", raw) + chunk(b"IEND", b"")


def _pictures() -> Iterator[tuple[str, bytes]]:
    """Good pictures of every depth and layout, and what is not a picture."""
    grey = (_sky(2) >> 4).astype(np.uint8)
    rgb = np.repeat(grey[..., None], 3, axis=2)
    for mode in ("1", "L", "LA", "P", "RGB", "RGBA", "CMYK", "I", "F", "YCbCr", "HSV", "LAB"):
        picture = (
            Image.fromarray(rgb).convert("RGB").convert(mode if mode not in ("LA",) else "LA")
            if mode != "LAB"
            else None
        )
        for kind, suffix in (("PNG", "png"), ("JPEG", "jpg"), ("TIFF", "tif")):
            try:
                data = _written(kind, picture) if picture is not None else b""
            except (OSError, ValueError, KeyError):
                continue
            if data:
                yield f"mode-{mode}.{suffix}", data
    for dtype in (
        "uint8",
        "int8",
        "uint16",
        "int16",
        "uint32",
        "int32",
        "uint64",
        "float16",
        "float32",
        "float64",
        "complex64",
    ):
        yield f"kind-{dtype}.tif", _tiff(grey.astype(dtype), photometric="minisblack")
    for values, name in ((np.nan, "nan"), (np.inf, "inf"), (-np.inf, "minus-inf"), (1e38, "huge")):
        yield f"all-{name}.tif", _tiff(np.full((HEIGHT, WIDTH, 3), values, np.float32), photometric="rgb")
    for how in ("lzw", "zlib", "packbits", "lzma", "zstd", "jpeg", "webp", "png"):
        try:
            yield f"packed-{how}.tif", _tiff(rgb, photometric="rgb", compression=how)
        except (ValueError, KeyError, RuntimeError, ImportError):
            continue
    yield "planar.tif", _tiff(np.moveaxis(rgb, 2, 0), photometric="rgb", planarconfig="separate")
    yield "two-samples.tif", _tiff(rgb[..., :2], photometric="minisblack", planarconfig="contig")
    yield (
        "seven-samples.tif",
        _tiff(np.zeros((90, 90, 7), np.uint8), photometric="minisblack", planarconfig="contig"),
    )
    yield "big.tif", _tiff(rgb, photometric="rgb", bigtiff=True)
    yield "one-pixel.png", _written("PNG", Image.new("RGB", (1, 1)))
    yield "one-row.png", _written("PNG", Image.new("RGB", (5000, 1)))
    yield (
        "animated.png",
        _written("PNG", Image.fromarray(rgb), save_all=True, append_images=[Image.fromarray(rgb)] * 3),
    )
    yield "gif-inside.jpg", _written("GIF", Image.fromarray(grey))
    yield "png-inside.jpg", _written("PNG", Image.fromarray(rgb))
    yield "jpeg-inside.dng", _written("JPEG", Image.fromarray(rgb))
    exif = Image.Exif()
    exif[274], exif[271], exif[306] = 99, "x" * 60000, "never"
    block = exif.get_ifd(34665)
    block[33434], block[34855], block[36867] = (0, 0), 2**31, "2027:99:99 99:99:99"
    yield "exif-lies.jpg", _written("JPEG", Image.fromarray(rgb), exif=exif)
    yield "heic-head.heic", b"\0\0\0\x18ftypheic" + b"\0" * 400
    yield "heic-endless.heic", b"\0\0\0\x18ftypheic\0\0\0\0" + b"\xff\xff\xff\xffmeta" * 40
    yield "nothing.dng", b""
    yield "one-byte.jpg", b"\xff"
    yield "words.dng", b"not a picture, but many words. " * 900
    yield "zeros.tif", b"\0" * 100_000
    yield "loop.tif", struct.pack("<2sHI", b"II", 42, 8) + struct.pack("<HI", 0, 8) + b"\0" * 200
    yield "self.tif", _tags([(330, 4, 1, 8), (256, 4, 1, 90), (257, 4, 1, 90)])
    yield "= formula(1).dng", b"II*\0" + b"\0" * 90
    yield "<script>alert(1)<.jpg", _written("JPEG", Image.fromarray(rgb))
    yield ("n" * 200) + ".png", _written("PNG", Image.fromarray(rgb))
    yield "ünïcode ☾ nacht.png", _written("PNG", Image.fromarray(rgb))


def write_all(folder: Path, count: int = 357) -> list[Path]:
    """Write the files; exactly ``count`` of them."""
    folder.mkdir(parents=True, exist_ok=True)
    packed, plain = _dng(folder, True), _dng(folder, False)
    linear = folder / ".linear.dng"
    write_linear_dng(linear, np.full((HEIGHT, WIDTH, 3), 0.05, np.float32), (0.5, 1.0, 0.6), np.eye(3))
    jpeg = _written("JPEG", Image.fromarray(np.repeat((_sky(3) >> 4).astype(np.uint8)[..., None], 3, axis=2)))
    png = _written("PNG", Image.fromarray((_sky(3) >> 4).astype(np.uint8)))
    kinds: list[Callable[[], Iterator[tuple[str, bytes]]]] = [
        _forged_sizes,
        _bombs,
        _pictures,
        lambda: _lying(plain),
        lambda: _cut(packed, "packed.dng", 12),
        lambda: _cut(plain, "plain.dng", 12),
        lambda: _cut(jpeg, "a.jpg", 8),
        lambda: _cut(png, "a.png", 8),
        lambda: _mutated(linear.read_bytes(), "linear.dng", 20),
        lambda: _mutated(jpeg, "a.jpg", 20),
        lambda: _mutated(png, "a.png", 10),
        lambda: _mutated(plain, "plain.dng", 40),
        lambda: _mutated(packed, "packed.dng", 400),
    ]
    written: list[Path] = []
    for kind in kinds:
        for name, data in kind():
            if len(written) < count:
                path = folder / name.replace("/", "_")
                path.write_bytes(data)
                written.append(path)
    linear.unlink()
    return written


def main() -> None:
    """Write, and inspect when asked."""
    folder = Path(sys.argv[1])
    files = write_all(folder)
    print(f"{len(files)} files, {sum(p.stat().st_size for p in files) / 1e6:.1f} MB")
    if "--inspect" not in sys.argv:
        return
    begun = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-m", "vinter.cli", "inspect", str(folder), "--format", "json"],
        capture_output=True,
        text=True,
    )
    rows = json.loads(done.stdout, parse_constant=lambda word: sys.exit(f"{word} in the JSON"))
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 2**20
    errors = [r for r in rows if "error" in r]
    print(f"exit {done.returncode}, {time.monotonic() - begun:.0f} s, at most {most:.2f} GB in a process")
    print(f"{len(rows)} answered: {len(rows) - len(errors)} measured, {len(errors)} with a sentence")
    print("not answered:", {p.name for p in files} - {r["file"] for r in rows} or "none")
    for row in errors:
        print("  ", row["error"][:170])


if __name__ == "__main__":
    main()
