"""The lists of an archive, read in a child process that is held to some memory and time: what came from
outside is never parsed where others are served.

Run as ``python -m vinter.web.archive.parsing SOURCE FOLDER MEMBER...`` it writes each list as one row a line,
in the order of the ids, into the folder; on standard output it says what is wrong.
"""

import json
import resource
import signal
import subprocess
import sys
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from pathlib import Path

from vinter.core.errors import BadInput
from vinter.core.parallel import end_with_parent
from vinter.core.versions import Data

LARGEST_MEMBER = 512 * 2**20  # bytes of one list of rows
MOST_ROWS = 500_000
MEMORY_BYTES, CPU_SECONDS, WALL_SECONDS = int(2.4 * 2**30), 240, 600
REFUSED, OUT_OF_MEMORY = 2, 3  # exit status


def parsed(source: Path, folder: Path, members: Sequence[str]) -> None:
    """Write the lists of an archive into a folder, one row a line. BadInput names file and member and says
    what is wrong, with them or with how much reading them takes."""
    command = [sys.executable, "-m", __name__, str(MEMORY_BYTES), str(source), str(folder), *members]
    try:
        done = subprocess.run(command, capture_output=True, timeout=WALL_SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise BadInput(f"{source.name}: took too long to read") from error
    if done.returncode == 0:
        return
    if done.returncode == REFUSED:
        raise BadInput(done.stdout.decode(errors="replace"))
    if done.returncode == OUT_OF_MEMORY:
        raise BadInput(f"{source.name}: reading it needs more than {MEMORY_BYTES / 2**30:.1f} GB of memory")
    if done.returncode == -signal.SIGXCPU:
        raise BadInput(f"{source.name}: took too long to read")
    raise BadInput(f"{source.name}: cannot be read")


def rows_of(folder: Path, member: str) -> Iterator[Data]:
    """The rows of a list that was parsed, one after the other."""
    with (folder / member).open("rb") as lines:
        for line in lines:
            yield json.loads(line)


def json_of(archive: zipfile.ZipFile, member: str, file: str, largest: int = LARGEST_MEMBER) -> object:
    """The data of a member; [] when there is none. BadInput names file and member."""
    if member not in archive.namelist():
        return []
    try:
        with archive.open(member) as stream:
            text = stream.read(largest + 1)  # whatever size the file says it has
        if len(text) > largest:
            raise BadInput(f"{file}: {member} is larger than {largest / 2**20:g} MB")
        found: object = json.loads(text, parse_constant=_refuse)
        return found
    except (ValueError, RecursionError, zipfile.BadZipFile, zlib.error, NotImplementedError) as error:
        raise BadInput(f"{file}: {member} cannot be read ({error})") from error


def _refuse(constant: str) -> float:
    raise ValueError(f"{constant} is no number")


def _rows(archive: zipfile.ZipFile, member: str, file: str) -> list[Data]:
    """The rows of a member by their ids: what came first is first again, and joins find their parts."""
    data = json_of(archive, member, file)
    try:
        if member.endswith(".geojson") and isinstance(data, dict):
            places = [(f["properties"], [*f["geometry"]["coordinates"], 0.0]) for f in data["features"]]
            data = [p | {"lon": at[0], "lat": at[1], "elevation": at[2]} for p, at in places]
    except (TypeError, KeyError, IndexError) as error:
        raise BadInput(f"{file}: {member} is no collection of points") from error
    if not isinstance(data, list) or not all(
        isinstance(r, dict) and isinstance(r.get("id"), int) for r in data
    ):
        raise BadInput(f"{file}: {member} is no list of rows with ids")
    if len(data) > MOST_ROWS:
        raise BadInput(f"{file}: {member} holds more than {MOST_ROWS} rows")
    return sorted(data, key=lambda row: row["id"])


def main(memory: int, source: Path, folder: Path, members: Sequence[str]) -> int:
    """What the child does with so many bytes of memory; its exit status."""
    end_with_parent(signal.SIGKILL, None)
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_SECONDS, CPU_SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        with zipfile.ZipFile(source) as archive:
            for member in members:
                with (folder / member).open("w", encoding="utf-8") as out:
                    for row in _rows(archive, member, source.name):
                        out.write(json.dumps(row) + "\n")
    except BadInput as error:
        sys.stdout.write(str(error))
        return REFUSED
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
        sys.stdout.write(f"{source.name}: damaged ({error}); nothing was changed")
        return REFUSED
    except MemoryError:
        return OUT_OF_MEMORY
    return 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), Path(sys.argv[2]), Path(sys.argv[3]), sys.argv[4:]))
