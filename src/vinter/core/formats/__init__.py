"""Open formats in and out: DNG, TIFF, FITS, PNG and JPEG, iCalendar."""
