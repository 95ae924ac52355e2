"""What tests of pages share: the text of an answer, and a file to send."""

import io
import re
import time


def body(response):
    """The bytes of an answer, also of one that is sent as it is made."""
    return b"".join(response.streaming_content) if response.streaming else response.content


def said(response):
    """The text of an answer; of a page as a browser takes it, any white space as one blank."""
    text = body(response).decode()
    return re.sub(r"\s+", " ", text) if "html" in response.headers.get("Content-Type", "") else text


def upload(name, data):
    file = io.BytesIO(data)
    file.name = name
    return file


def wait(job, seconds=90):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        job.refresh_from_db()
        if not job.active:
            return job
        time.sleep(0.2)
    raise AssertionError(f"{job} did not end: {job.label} {job.progress}")
