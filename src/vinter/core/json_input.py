"""JSON that others wrote: read without trusting its depth or its size."""

import json

from vinter.core.errors import BadInput

LARGEST = 4 * 2**20  # bytes of JSON that is read while somebody waits for the answer


def read_json(text: str | bytes, name: str, largest: int = LARGEST) -> object:
    """The data of a JSON text called ``name``; numbers may be NaN or infinite, which whoever knows the field
    refuses. BadInput when it is larger than ``largest`` bytes, is not JSON, or nests too deeply."""
    if len(text) > largest:
        raise BadInput(f"{name}: larger than {largest / 2**20:g} MB")
    try:
        return json.loads(text)
    except RecursionError as error:
        raise BadInput(f"{name}: nested too deeply") from error
    except ValueError as error:
        raise BadInput(f"{name}: not JSON ({error})") from error
