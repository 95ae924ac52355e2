"""Arrays on disk as memory."""

import numpy as np
import pytest

from vinter.core.formats.whole import mapped, mapped_array


def test_what_numpy_wrote_is_read_and_what_is_written_stands_on_disk(tmp_path):
    path = tmp_path / "a.npy"
    first = np.arange(24, dtype=np.uint16).reshape(2, 3, 4)
    np.save(path, first)
    assert np.array_equal(mapped(path, np.uint16), first) and not mapped(path, np.uint16).flags.writeable
    second = np.ones((5, 7), np.uint8)
    np.save(path, second)  # the same name, another array
    assert np.array_equal(mapped(path, np.uint8), second)
    made = tmp_path / "b.npy"
    mapped_array(made, (4, 6))
    mapped(made, np.float32, write=True)[1:3, 2:5] = 8.5
    assert np.load(made)[1:3, 2:5].min() == 8.5 and np.load(made).sum() == 6 * 8.5
    with pytest.raises(ValueError, match="holds uint8"):
        mapped(path, np.uint16)
