"""Numbers that several rooms need and that must be the same in all of them."""

SIDEREAL_ARCSEC = 15.041  # motion of the sky at the equator, arcsec per second of time
ARCSEC_PER_RADIAN = 206265.0
FULL_FRAME_DIAGONAL_MM = 43.2666  # of the 36 x 24 mm frame that equivalent focal lengths refer to
EQUIVALENT_UNKNOWN_MM = 26.0  # taken for a phone's main lens when a file names none
