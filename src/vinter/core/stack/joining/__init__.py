"""Stacks of overlapping fields joined into one picture.

In: two to eight panels (picture, share of sky, solved field, time), a site, a layout. Out: one picture with
its mask, drawn into files, its field, and what joining found of stars and light.
"""
