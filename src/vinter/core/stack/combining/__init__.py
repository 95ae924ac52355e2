"""From aligned samples to one picture.

In: a plan that names frames on disk, their geometry and light, the mask, the method. Out: tiles of linear RGB
written to a file, the samples left out, the noise seen; for star trails the copies that close the pauses.
"""
