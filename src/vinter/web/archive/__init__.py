"""Everything a person owns as one file in open formats, and back in again."""
