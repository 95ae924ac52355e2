"""Which pixels are sky.

In: the mean of unmoved frames, places of matched stars, homographies, strokes of a brush. Out: a feathered
sky mask (height, width), 255 = sky, and the pixels of a frame that may be taken for sky.
"""
