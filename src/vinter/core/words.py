"""Small things that sentences are made of."""


def count_of(count: int, noun: str) -> str:
    """A number of things in words: 1 star, 12 stars."""
    return f"{count} {noun}{'' if count == 1 else 's'}"
