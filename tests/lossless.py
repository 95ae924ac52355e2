"""A plain writer of lossless JPEG with any predictor and one or two components, for what reads it."""

import numpy as np


class _Bits:
    def __init__(self):
        self.text = []

    def add(self, value, count):
        self.text.append(format(value, f"0{count}b") if count else "")

    def stuffed(self):
        text = "".join(self.text)
        text += "1" * (-len(text) % 8)
        raw = bytes(int(text[k : k + 8], 2) for k in range(0, len(text), 8))
        return raw.replace(b"\xff", b"\xff\0")


def foretold(samples, y, x, components, predictor, bits):
    a = int(samples[y, x - components]) if x >= components else None
    if y == 0:
        return 1 << (bits - 1) if a is None else a
    b = int(samples[y - 1, x])
    if a is None:
        return b
    c = int(samples[y - 1, x - components])
    ways = (a, b, c, a + b - c, a + ((b - c) >> 1), b + ((a - c) >> 1), (a + b) >> 1)
    return ways[predictor - 1]


def encoded(samples, bits, predictor=1, components=1):
    """Samples (height, width times components) as lossless JPEG; every category has a code of five bits."""
    height, width = samples.shape
    counts = bytes((0, 0, 0, 0, 17, *[0] * 11))
    table = bytes((0,)) + counts + bytes(range(17))
    out = _Bits()
    for y in range(height):
        for x in range(width):
            step = (int(samples[y, x]) - foretold(samples, y, x, components, predictor, bits)) & 0xFFFF
            step -= 0x10000 if step > 0x8000 else 0
            size = 16 if step == 0x8000 else abs(step).bit_length()
            out.add(size, 5)
            if size < 16:
                out.add(step if step > 0 else step + (1 << size) - 1, size)
    parts = b"".join(bytes((k, 0x11, 0)) for k in range(components))
    frame = (
        bytes((bits,)) + height.to_bytes(2) + (width // components).to_bytes(2) + bytes((components,)) + parts
    )
    scan = (
        bytes((components,)) + b"".join(bytes((k, 0)) for k in range(components)) + bytes((predictor, 0, 0))
    )
    marks = ((0xC4, table), (0xC3, frame), (0xDA, scan))
    head = b"".join(bytes((0xFF, mark)) + (len(p) + 2).to_bytes(2) + p for mark, p in marks)
    return b"\xff\xd8" + head + out.stuffed() + b"\xff\xd9"


def drawn(shape, bits, seed=1):
    """Samples with smooth parts, noise, and steps from one end of the range to the other."""
    rng = np.random.default_rng(seed)
    out = rng.normal((1 << bits) / 3, 6, shape)
    out[:, shape[1] // 2 :] = rng.integers(0, 1 << bits, (shape[0], shape[1] - shape[1] // 2))
    out[-1] = 0
    out[-1, ::3] = (1 << bits) - 1
    return np.clip(out, 0, (1 << bits) - 1).astype(np.uint16)
