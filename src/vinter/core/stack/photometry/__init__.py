"""The light of the frames.

In: matched stars with their light, backgrounds, the sky mask, a solved field. Out: what brings each frame to
the reference's light (``Normalization``), and how much darker the lens is towards its corners
(``Vignetting``).
"""
