"""Ways to use a night's minutes; each mode has its own few options, figures, steps for the card and
cautions."""
