"""Single frames: reading RAW and pictures, metadata, finding stars, measuring and judging a frame."""
