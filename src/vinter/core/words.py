"""Small things that sentences are made of."""


def count_of(count: int, noun: str) -> str:
    """A number of things in words: 1 star, 12 stars."""
    return f"{count} {noun}{'' if count == 1 else 's'}"


def spoken_about(seconds: float) -> str:
    """A time that is only known roughly: "45 s", from two minutes on "about 10 min"."""
    return f"{seconds:.0f} s" if seconds < 120 else f"about {round(seconds / 60)} min"


def spoken_seconds(seconds: float) -> str:
    """An exposure as cameras show it: 1/30 s, 0.5 s, 20 s."""
    return f"{seconds:g} s" if seconds >= 0.4 or seconds <= 0 else f"1/{1 / seconds:.0f} s"
