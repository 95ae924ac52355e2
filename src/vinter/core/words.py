"""Small things that sentences are made of."""


def count_of(count: int, noun: str) -> str:
    """A number of things in words: 1 star, 12 stars."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def spoken_seconds(seconds: float) -> str:
    """An exposure as cameras show it: 1/30 s, 0.5 s, 20 s."""
    return f"{seconds:g} s" if seconds >= 0.4 or seconds <= 0 else f"1/{1 / seconds:.0f} s"
