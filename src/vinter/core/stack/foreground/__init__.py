"""What the ground of a stack is made of.

In: frames on disk, the sky mask, the camera's turns. Out: how far the camera moved in each frame
(``CameraShift``), and the frames, laid on the reference's ground, that the ground is combined from
(``Foreground``).
"""
