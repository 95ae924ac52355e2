"""Waiting for what a page does."""


def until(page, script):
    """Wait until a script says yes; pages forbid what the library's own waiting needs."""
    for _ in range(200):
        if page.evaluate(script):
            return
        page.wait_for_timeout(50)
    raise AssertionError(f"never true: {script}")
