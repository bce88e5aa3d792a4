"""Files written whole or not at all, and what killed processes left behind."""

from __future__ import annotations

import os
import platform
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from windfell.errors import OutputFailed


@contextmanager
def written_whole(path: Path, flush: bool = True) -> Iterator[Path]:
    """A temporary file beside `path` that takes its place when the block ends well.

    `flush` waits until the disk has it all, so that even a power cut leaves the old file
    or the new one; pictures, which can be made again, go without.
    Whatever goes wrong, `path` is as before and the temporary file is gone. Raises
    OutputFailed for what the file system refuses.
    """
    path = Path(path)
    temporary: Path | None = None
    try:
        without_leftovers(path.parent)
        mine = f".{path.name}.{platform.node()}-{os.getpid()}-"
        handle, name = tempfile.mkstemp(prefix=mine, suffix=".part", dir=path.parent)
        os.close(handle)
        temporary = Path(name)
        os.chmod(temporary, 0o666 & ~_umask())
        yield temporary
        if flush:
            with open(temporary, "rb") as done:
                os.fsync(done.fileno())
        os.replace(temporary, path)
    except OSError as error:
        why = error.strerror or str(error)
        raise OutputFailed(path, f"it could not be written ({why}); choose another place.") from error
    except OutputFailed as error:
        if error.path != str(temporary):
            raise
        # a writer knows the temporary file alone
        raise OutputFailed(path, error.why) from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def without_leftovers(folder: Path) -> None:
    """Remove temporary files in a folder that processes of this machine left behind when they were killed."""
    try:
        found = [p for p in folder.iterdir() if p.name.startswith(".") and p.name.endswith(".part")]
    except OSError:
        return
    for path in found:
        whose = re.search(re.escape(f".{platform.node()}-") + r"(\d{1,9})-[^-]*\.part$", path.name)
        if whose and not running(int(whose[1])):
            with suppress(OSError):
                shutil.rmtree(path) if path.is_dir() else path.unlink()


def running(pid: int) -> bool:
    """Whether a process of this machine is there."""
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


@contextmanager
def folder_beside(path: Path) -> Iterator[Path]:
    """A temporary folder beside a file that is being written, gone when the block ends; named so that what a killed
    process left of it is found.
    """
    name = path.name.lstrip(".")[:80]
    with tempfile.TemporaryDirectory(prefix=f".{name}.{platform.node()}-{os.getpid()}-", suffix=".part",
                                     dir=path.parent) as folder:
        yield Path(folder)
