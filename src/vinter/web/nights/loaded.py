"""All that a process of the compute pool needs, loaded by being imported: for the process that the pool's own
are forked from."""

import gc
import time
from datetime import date

import django

from vinter.core.sky.alternatives import alternatives
from vinter.core.sky.catalogue import between_stars, milky_way, star_table
from vinter.core.sky.ephemeris import year_direction, year_ephemeris
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE
from vinter.core.sky.thresholds import Thresholds

django.setup()
for year in (time.gmtime().tm_year, time.gmtime().tm_year + 1):
    year_ephemeris(year)
    year_direction(year)
# what the first night would wait for; the first expected picture loads its kernels itself (2 s)
anywhere = Site(lat=45.0, lon=5.0, tz="UTC")  # its zenith modelled, so towns are loaded
alternatives(anywhere, date.today(), Thresholds(), CORE)
for table in (star_table, milky_way, between_stars):
    table()
gc.freeze()  # shared with whoever is forked: looking through it for rubbish would copy it
