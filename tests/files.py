"""Files that tests make: pictures that say where and when, archives in another form."""

import zipfile

import numpy as np
from PIL import Image


def jpeg_at(path, place=None, when="2027:06:10 00:40:00", zone="+01:00", model="Marlet 7", seed=1):
    """A noisy dark picture that says where and when it was taken."""
    rng = np.random.default_rng(seed)
    image = Image.fromarray(rng.integers(10, 40, (300, 400, 3)).astype(np.uint8))
    exif = Image.Exif()
    exif[272] = model
    block = exif.get_ifd(34665)
    block[36867], block[36881], block[33434], block[34855] = when, zone, 10.0, 1600
    if place:
        gps = exif.get_ifd(34853)
        for tag, value, names in ((1, place[0], "NS"), (3, place[1], "EW")):
            size = abs(value)
            whole, minutes = int(size), int(size % 1 * 60)
            gps[tag] = names[value < 0]
            gps[tag + 1] = (float(whole), float(minutes), (size - whole - minutes / 60) * 3600)
    image.save(path, exif=exif)


def changed(path, out, **members):
    """The archive with some members in another form (None leaves one out)."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            data = old.read(name)
            change = members.get(name.replace(".", "_"), lambda d: d)
            if change is not None:
                new.writestr(name, change(data))
    return out
