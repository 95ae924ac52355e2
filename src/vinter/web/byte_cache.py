"""A cache bounded by the bytes of what it holds, in which a thing that many ask for at once is made once."""

import sys
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, fields, is_dataclass
from typing import Any, TypeVar

import numpy as np

V = TypeVar("V")


def bytes_of(value: object) -> int:
    """Bytes that a value holds: arrays, containers and dataclasses are followed, all else is counted as such;
    what is shared counts once."""
    return _bytes_of(value, set())


def _bytes_of(value: object, seen: set[int]) -> int:
    if id(value) in seen:
        return 0
    seen.add(id(value))
    if isinstance(value, Sized):
        return value.known_bytes
    if isinstance(value, np.ndarray):
        return int(value.nbytes) + 112
    if isinstance(value, (list, tuple, set)):
        return sys.getsizeof(value) + sum(_bytes_of(v, seen) for v in value)
    if isinstance(value, dict):
        return sys.getsizeof(value) + sum(_bytes_of(v, seen) for v in value.values())
    if is_dataclass(value) and not isinstance(value, type):
        return 64 + sum(_bytes_of(getattr(value, f.name), seen) for f in fields(value))
    return sys.getsizeof(value)


@dataclass(frozen=True, kw_only=True)
class Sized:
    """A value that was measured where it was made."""

    known_bytes: int


class _Making:
    """Something being made; whoever asks meanwhile waits for it."""

    def __init__(self) -> None:
        self.done = threading.Event()
        self.value: Any = None
        self.error: BaseException | None = None


class ByteCache:
    """Values by key, the least recently used thrown away beyond a number of bytes; safe for threads."""

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self._values: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._making: dict[Hashable, _Making] = {}
        self._guard = threading.Lock()

    @property
    def held_bytes(self) -> int:
        """Bytes of what is held."""
        with self._guard:
            return sum(size for _, size in self._values.values())

    def peek(self, key: Hashable) -> object | None:
        """The value of a key that is held; None when none is."""
        with self._guard:
            if key not in self._values:
                return None
            self._values.move_to_end(key)
            found: object = self._values[key][0]
            return found

    def put(self, key: Hashable, value: object) -> None:
        """Hold a value; the least recently used go beyond the bytes."""
        size = bytes_of(value)
        with self._guard:
            self._values[key] = value, size
            held = sum(size for _, size in self._values.values())
            while held > self.most_bytes and len(self._values) > 1:
                held -= self._values.popitem(last=False)[1][1]

    def get(self, key: Hashable, make: Callable[[], V]) -> V:
        """The value of a key, made when it is not there; an error in making it goes to all who wait."""
        with self._guard:
            if key in self._values:
                self._values.move_to_end(key)
                value: V = self._values[key][0]
                return value
            mine = key not in self._making
            making = self._making.setdefault(key, _Making())
        if mine:
            self._make(key, making, make)
        else:
            making.done.wait()
        if making.error is not None:
            raise making.error
        made: V = making.value
        return made

    def _make(self, key: Hashable, making: _Making, make: Callable[[], object]) -> None:
        try:
            making.value = make()
        except BaseException as error:
            making.error = error
        if making.error is None:
            self.put(key, making.value)
        with self._guard:
            del self._making[key]
        making.done.set()
