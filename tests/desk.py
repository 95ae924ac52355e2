"""What tests of pages share: the text of an answer, and a file to send."""

import io


def said(response):
    return response.content.decode()


def upload(name, data):
    file = io.BytesIO(data)
    file.name = name
    return file
