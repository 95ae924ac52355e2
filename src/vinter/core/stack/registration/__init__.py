"""Where every frame lies on the reference.

In: stars and times of all frames. Out: a homography and matched stars for each (``Alignment``), the groups
between which the tripod was bumped, one lens and rotation for all (``RotationModel``), and samples
interpolated by them.
"""
