"""Frames of unknown files, decoded once: in a child process with limits on memory and time, which hands over
the pixels.

A process that decodes keeps at most two small servers, which hold the decoding libraries and fork a limited
child for every file. A child writes what it decoded into memory that the asking process made
(``memfd_create``, Linux), so that no pixel is copied twice. More than two files at a time wait: that is the
gate for requests.

Run as ``python -m vinter.core.frames.decoding FD`` it is such a server, on a socket inherited from its
parent.
"""

import json
import mmap
import os
import resource
import select
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from vinter.core.camera.illuminant import temperature
from vinter.core.errors import BadInput
from vinter.core.frames.frame import Colour, Frame
from vinter.core.frames.lenswarp import LensWarp
from vinter.core.frames.lossless_jpeg import SMALLEST, lossless_jpeg
from vinter.core.frames.metadata import Metadata
from vinter.core.frames.opcodes import CorrectionNote
from vinter.core.frames.reading import read_frame
from vinter.core.parallel import end_with_parent
from vinter.core.versions import Data

MEMORY_BYTES = int(2.4 * 2**30)  # bytes, address space of a child with its libraries
CPU_SECONDS = 40
WALL_SECONDS = 55
SERVERS = 2
ALIGNED = 64
MOST_FILES = 4096  # numbers of open files that a forked server closes
MESSAGE = 65536
OUT_OF_MEMORY, REFUSED = 3, 2
ARRAYS = ("data", "pattern", "black", "shading")
_PARTS: dict[str, TypeAdapter[Any]] = {
    "colour": TypeAdapter(Colour),
    "meta": TypeAdapter(Metadata),
    "notes": TypeAdapter(tuple[CorrectionNote, ...]),
    "warp": TypeAdapter(LensWarp | None),
}


def _written(frame: Frame, fd: int) -> None:
    """A frame into a file: length of the header, header as JSON, then the arrays, each on a round address."""
    arrays = {name: getattr(frame, name) for name in ARRAYS if getattr(frame, name) is not None}
    header: dict[str, Any] = {
        "kind": frame.kind,
        "white": frame.white,
        "linear": frame.linear,
        "arrays": {name: [a.dtype.str, list(a.shape)] for name, a in arrays.items()},
    }
    header |= {name: part.dump_python(getattr(frame, name), mode="json") for name, part in _PARTS.items()}
    text = json.dumps(header).encode()
    os.write(fd, len(text).to_bytes(8, "little") + text)
    for a in arrays.values():
        os.lseek(fd, -(-os.lseek(fd, 0, os.SEEK_CUR) // ALIGNED) * ALIGNED, os.SEEK_SET)
        left = np.ascontiguousarray(a).data.cast("B")
        while left:
            left = left[os.write(fd, left) :]


def _mapped(fd: int, path: Path) -> Frame:
    """The frame that a child wrote, its arrays mapped from memory (changes stay private)."""
    whole = mmap.mmap(fd, 0, access=mmap.ACCESS_COPY)
    length = int.from_bytes(whole[:8], "little")
    header, place = json.loads(whole[8 : 8 + length]), 8 + length
    arrays: dict[str, Any] = dict.fromkeys(ARRAYS)
    for name, (kind, shape) in header.pop("arrays").items():
        place = -(-place // ALIGNED) * ALIGNED
        dtype, count = np.dtype(kind), int(np.prod(shape))
        arrays[name] = np.frombuffer(whole, dtype, count, place).reshape(shape)
        place += count * dtype.itemsize
    parts = {name: part.validate_python(header.pop(name)) for name, part in _PARTS.items()}
    return Frame(path=path, **header, **arrays, **parts)


class DecodingServer:
    """One server process and the socket to it; used by one thread at a time.

    Where this process has one thread only, the server may be ``forked`` from it, with all that is loaded;
    else it is a process of its own.
    """

    def __init__(self, forked: bool = False) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self.end = _forked_server(theirs.fileno()) if forked else _own_server(theirs.fileno())
        self.socket = ours

    def ask(self, path: Path, memory: int) -> Data:
        """Have a file decoded into a memory file; the server's answer. ConnectionError when it died."""
        socket.send_fds(self.socket, [json.dumps(str(path.resolve())).encode()], [memory])
        answer = self.socket.recv(MESSAGE)
        if not answer:
            raise ConnectionError("the decoding server ended")
        found: dict[str, Any] = json.loads(answer)
        return found

    def close(self) -> None:
        """End it: it goes when its socket does."""
        self.socket.close()
        self.end()


def _own_server(fd: int) -> Callable[[], object]:
    """A server as a process of its own; what waits for its end."""
    quiet = dict.fromkeys(("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"), "1")
    return subprocess.Popen(
        [sys.executable, "-m", "vinter.core.frames.decoding", str(fd)],
        pass_fds=[fd],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, **quiet},
    ).wait


def _forked_server(fd: int) -> Callable[[], object]:
    """A server forked from this process; what waits for its end."""
    pid = os.fork()
    if pid == 0:
        with suppress(BaseException):
            os.closerange(3, fd)
            os.closerange(fd + 1, MOST_FILES)
            serve(fd)
        os._exit(0)
    return partial(os.waitpid, pid, 0)


class _Servers:
    """The idle servers of this process, and the gate before them."""

    def __init__(self) -> None:
        self.gate = threading.BoundedSemaphore(SERVERS)
        self.idle: list[DecodingServer] = []

    def ask(self, path: Path, memory: int) -> Data:
        with self.gate:
            for fresh in (False, True):
                server = self.idle.pop() if self.idle and not fresh else DecodingServer()
                try:
                    answer = server.ask(path, memory)
                except OSError:
                    server.close()
                    if fresh:
                        raise
                    continue
                self.idle.append(server)
                return answer
        raise AssertionError("unreachable")


_servers = _Servers()


def start_decoding() -> None:
    """Start a server before it is asked."""
    if not _servers.idle:
        alone = threading.active_count() == 1
        if alone:
            make_ready()
        _servers.idle.append(DecodingServer(forked=alone))


def make_ready() -> None:
    """Load what decoding a frame would otherwise load in every child anew."""
    lossless_jpeg(SMALLEST)
    temperature(0.3127, 0.3290)


def decoded(path: Path, label: str = "") -> Frame:
    """Any supported file, decoded once in a limited child; its ``path`` bears the label where one is given.

    BadInput with the label (or the file's name) says what is wrong: with the file, or that decoding it took
    more memory or time than a frame may take. Errors: those of ``read_frame``.
    """
    label = label or path.name
    memory = os.memfd_create("frame", os.MFD_CLOEXEC)
    try:
        answer = _servers.ask(path, memory)
        if words := _failure(answer, path, label):
            raise BadInput(words)
        return _mapped(memory, path.with_name(label))
    finally:
        os.close(memory)


def _failure(answer: Data, path: Path, label: str) -> str:
    """What went wrong in a child, as one true sentence; empty when nothing did."""
    if answer["error"]:
        return str(answer["error"]).replace(f"{path.resolve().parent}/", "").replace(path.name, label)
    status = answer["status"]
    if status == 0:
        return ""
    if status == OUT_OF_MEMORY:
        return f"{label}: opening it needs more than {MEMORY_BYTES / 2**30:.1f} GB of memory"
    if status in (-signal.SIGXCPU, -signal.SIGALRM, -signal.SIGKILL):
        return f"{label}: took too long to open"
    return f"{label}: cannot be read (its decoder gave up on it)"


# ---- what runs in the server and in its children


def limit_process(cpu_seconds: int) -> None:
    """Hold this process to ``MEMORY_BYTES`` and to seconds of a processor; it leaves no core behind."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_seconds, cpu_seconds))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _decode_in_child(path: Path, memory: int, errors: int, server: int) -> int:
    """Limit this process, decode, write; the exit status."""
    end_with_parent(signal.SIGKILL, server)
    limit_process(CPU_SECONDS)
    signal.alarm(WALL_SECONDS)
    try:
        _written(read_frame(path), memory)
    except BadInput as error:
        os.write(errors, str(error).encode()[: MESSAGE // 2])
        return REFUSED
    except MemoryError:
        return OUT_OF_MEMORY
    return 0


def _forked(path: Path, memory: int, parent: socket.socket) -> Data:
    """Status and words of a child that decodes a file; the child goes when the parent does."""
    heard, said = os.pipe()
    server = os.getpid()
    pid = os.fork()
    if pid == 0:
        status = 1
        with suppress(BaseException):
            parent.close()
            os.close(heard)
            status = _decode_in_child(path, memory, said, server)
        os._exit(status)
    os.close(said)
    watch = os.pidfd_open(pid)
    ready, _, _ = select.select([watch, parent.fileno()], [], [], WALL_SECONDS + 5)
    if watch not in ready:  # too long, or nobody waits for it any more
        os.kill(pid, signal.SIGKILL)
    _, status = os.waitpid(pid, 0)
    os.close(watch)
    with os.fdopen(heard, "rb") as words:
        error = words.read().decode(errors="replace")
    return {"status": os.waitstatus_to_exitcode(status), "error": error}


def serve(fd: int) -> None:
    """Answer the parent's wishes until it is gone."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    make_ready()
    with socket.socket(fileno=fd) as parent:
        while True:
            message, fds, _, _ = socket.recv_fds(parent, MESSAGE, 1)
            if not message:
                return
            try:
                answer = _forked(Path(json.loads(message)), fds[0], parent)
            finally:
                os.close(fds[0])
            with suppress(BrokenPipeError):
                parent.send(json.dumps(answer).encode())


if __name__ == "__main__":
    serve(int(sys.argv[1]))
