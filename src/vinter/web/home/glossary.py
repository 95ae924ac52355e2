"""The words of the field, a sentence each."""

GLOSSARY = (
    (
        "Altitude, azimuth",
        "How high something stands over the horizon, and in which direction, from north through east; "
        "both in degrees.",
    ),
    (
        "Astronomical dusk and dawn",
        "The moments when the Sun is 18° below the horizon; between them its light is gone from the sky.",
    ),
    (
        "Core",
        "The centre of our galaxy, in Sagittarius: the brightest part of the Milky Way, low in the "
        "south from the north.",
    ),
    (
        "Dark, flat, bias frames",
        "Frames with the lens covered, of an evenly lit surface, and at the shortest exposure: they "
        "tell what the sensor adds, "
        "and the stack takes it out.",
    ),
    (
        "Elongation",
        "How much longer than wide a star is: 1 is round; much more means that it trailed or that the "
        "phone moved.",
    ),
    (
        "EV",
        "A doubling of light: +1 EV is twice as bright, −1 EV half.",
    ),
    (
        "Extinction",
        "How much light the air takes, in magnitudes for the air straight overhead; low stars shine "
        "through much more of it.",
    ),
    (
        "FWHM",
        "The width of a star at half its height, in pixels or arcminutes: how sharp the picture is.",
    ),
    (
        "Illuminated fraction",
        "How much of the Moon's disc is lit, 0 at new Moon, 1 at full.",
    ),
    (
        "ISO",
        "By how much the phone multiplies what the sensor counted. Beyond some point it multiplies "
        "noise alike.",
    ),
    (
        "Luminance noise, colour noise",
        "Grain of light and grain of colour; the second is removed first, because it hides less detail.",
    ),
    (
        "Magnitude, mag/arcsec²",
        "Brightness of a star, and of a piece of sky; smaller is brighter, five magnitudes are a "
        "hundred times.",
    ),
    (
        "NPF rule",
        "The longest shutter before stars trail, from aperture, pixel pitch, focal length and declination.",
    ),
    (
        "Registration",
        "Laying the stars of all frames over each other.",
    ),
    (
        "Sigma clipping",
        "Leaving out of each place the samples that lie too far from the others: planes, satellites, "
        "hot pixels.",
    ),
    (
        "Sky mask",
        "Which pixels are sky; everything the stack and the finish do to the sky stops there.",
    ),
    (
        "Stack",
        "Many short frames as one: noise falls with the square root of their number.",
    ),
    (
        "Take",
        "A burst of frames from one stand.",
    ),
    (
        "Window",
        "The time of a night in which the target is high, the Moon and the Sun leave the sky dark, and "
        "it is worth leaving for.",
    ),
    (
        "Zenith",
        "The point straight overhead; its brightness is what a sky meter reads.",
    ),
)
