"""HEIF files with a gain map beside the picture, put together box by box as ISO/IEC 23008-12 says."""

import io
import struct

import pillow_heif
from PIL import Image

AUXILIARY = b"urn:com:phone:photo:2020:aux:hdrgainmap"


def box(kind, *parts):
    body = b"".join(parts)
    return struct.pack(">I4s", 8 + len(body), kind) + body


def split(data):
    """Kind and content of the boxes that lie one after the other."""
    at, out = 0, []
    while at + 8 <= len(data):
        size, kind = struct.unpack_from(">I4s", data, at)
        out.append((kind, data[at + 8 : at + size]))
        at += size
    return out


def two_pictures(base, second, exif=None):
    """A HEIF of two pictures (h, w, 3; 8 bits) that know nothing of each other."""
    made, out = pillow_heif.from_pillow(Image.fromarray(base)), io.BytesIO()
    made.add_from_pillow(Image.fromarray(second))
    made.save(out, quality=98, chroma=444, **({"exif": exif} if exif else {}))
    return out.getvalue()


def places(body):
    """Number, offset and length of each item, of a list in the form that the encoder writes."""
    assert body[0] == 0 and body[4:6] == b"\x44\x40"
    count = struct.unpack_from(">H", body, 6)[0]
    rows = [struct.unpack_from(">HHIHII", body, 8 + 18 * i) for i in range(count)]
    return [(number, base + offset, length) for number, _, base, _, offset, length in rows]


def related(data, purpose=b"", derived=None):
    """The file with a purpose of its second picture, or one more item that is derived from both and whose
    data stand in the list of items."""
    parts = split(data)
    old = dict(split(dict(parts)[b"meta"][4:]))
    rows = places(old[b"iloc"])
    kinds, references = old[b"iinf"], old.get(b"iref", b"\0\0\0\0")[4:]
    second = rows[-1][0]
    if purpose:
        references += box(b"auxl", struct.pack(">HHH", second, 1, 1))
    if derived is not None:
        third = box(b"infe", b"\x02\0\0\0", struct.pack(">HH4s", 9, 0, b"tmap"), b"\0")
        kinds = kinds[:4] + struct.pack(">H", struct.unpack(">H", kinds[4:6])[0] + 1) + kinds[6:] + third
        references += box(b"dimg", struct.pack(">HHHH", 9, 2, 1, second))

    def head(shift):
        placed = b"".join(struct.pack(">HHHHII", n, 0, 0, 1, at + shift, size) for n, at, size in rows)
        if derived is not None:
            placed += struct.pack(">HHHHII", 9, 1, 0, 1, 0, len(derived))
        count = struct.pack(">H", len(rows) + (derived is not None))
        children = [
            box(b"hdlr", old[b"hdlr"]),
            box(b"pitm", old[b"pitm"]),
            box(b"iloc", b"\x01\0\0\0\x44\0", count, placed),
            box(b"iinf", kinds),
            box(b"iprp", with_purpose(old[b"iprp"], second, purpose) if purpose else old[b"iprp"]),
            box(b"iref", b"\0\0\0\0", references) if references else b"",
            box(b"idat", derived) if derived is not None else b"",
        ]
        return box(b"ftyp", dict(parts)[b"ftyp"]) + box(b"meta", b"\0\0\0\0", *children)

    before = len(box(b"ftyp", dict(parts)[b"ftyp"])) + len(box(b"meta", dict(parts)[b"meta"]))
    return head(len(head(0)) - before) + box(b"mdat", dict(parts)[b"mdat"])


def with_purpose(body, second, purpose):
    """The list of properties with one more, which one item has: what an auxiliary picture is for."""
    own = dict(split(body))
    count = len(split(own[b"ipco"])) + 1
    ipma, out = own[b"ipma"], b""
    assert ipma[0] == 0 and not ipma[3] & 1
    at = 8
    for _ in range(struct.unpack_from(">I", ipma, 4)[0]):
        number, many = struct.unpack_from(">HB", ipma, at)
        indices = ipma[at + 3 : at + 3 + many] + (bytes([count]) if number == second else b"")
        out += struct.pack(">HB", number, len(indices)) + indices
        at += 3 + many
    properties = own[b"ipco"] + box(b"auxC", b"\0\0\0\0", purpose + b"\0")
    return box(b"ipco", properties) + box(b"ipma", ipma[:8], out)


def auxiliary(base, second, exif=None):
    """A phone's picture with an auxiliary one."""
    return related(two_pictures(base, second, exif), purpose=AUXILIARY)


def tone_mapped(base, second, block):
    """A picture from which, with a hidden second one and its numbers, a brighter one is derived."""
    made = related(two_pictures(base, second), derived=b"\0" + block)
    entry = b"infe\x02\0\0\0\0\x02"
    assert made.count(entry) == 1
    return made.replace(entry, b"infe\x02\0\0\x01\0\x02")


def fraction(value, under=1_000_000):
    return struct.pack(">iI", round(value * under), under)


def iso_block(least, most, gamma, before, after, flags=0, rooms=None):
    """The numbers of a gain map as ISO 21496-1 writes them, each with a denominator of its own."""
    low, high = rooms or (0.0, most)
    head = struct.pack(">HHB", 0, 0, flags) + fraction(low) + fraction(high)
    return head + b"".join(fraction(v) for v in (least, most, gamma, before, after))


def maker_note(numbers):
    """A maker note that is a list of tags: fractions by tag."""
    table, data = struct.pack(">H", len(numbers)), b""
    start = 14 + 2 + 12 * len(numbers) + 4
    for tag, value in sorted(numbers.items()):
        table += struct.pack(">HHII", tag, 10, 1, start + len(data))
        data += struct.pack(">ii", round(value * 1_000_000), 1_000_000)
    return b"PHONE\0\0\0\0\0\0\x01" + b"MM" + table + b"\0\0\0\0" + data
