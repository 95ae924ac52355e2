"""Numbers that several rooms need and that must be the same in all of them."""

SIDEREAL_ARCSEC = 15.041  # arcsec per second of time, motion of the sky at the equator
ARCSEC_PER_RADIAN = 206265.0
# mm, diagonal of the 36 x 24 mm frame that equivalent focal lengths refer to
FULL_FRAME_DIAGONAL_MM = 43.2666
EQUIVALENT_UNKNOWN_MM = 26.0  # mm, assumed for a phone's main lens when a file names none
