"""What can go wrong, each said as one sentence for the user: what, which file, what to do."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from windfell.job import Cancelled


class WindfellError(Exception):
    """A failure whose text may be shown as it is."""


class FrameUnreadable(WindfellError):
    """A frame's file is missing, damaged or of a kind that is not read."""

    def __init__(self, path: object, why: str) -> None:
        super().__init__(f"{path}: {why}")
        self.path = str(path)


class ProjectUnreadable(WindfellError):
    """A project file is missing, damaged or does not follow its schema."""

    def __init__(self, path: object, why: str) -> None:
        super().__init__(f"{path}: {why}")
        self.path = str(path)


class OutputFailed(WindfellError):
    """A result could not be written; nothing is left behind."""

    def __init__(self, path: object, why: str) -> None:
        super().__init__(f"{path}: {why}")
        self.path, self.why = str(path), why


class CannotJoin(WindfellError):
    """The frames of a set cannot become one picture; the text names which and why."""


class BadRequest(WindfellError):
    """The request contradicts itself or asks for something that does not exist."""

    def __init__(self, what: object, why: str = "") -> None:
        super().__init__(f"{what}: {why}" if why else str(what))


@contextmanager
def border(path: object, why: str, kind: type[WindfellError] = FrameUnreadable) -> Iterator[None]:
    """Where foreign data comes in. Whatever a reader or its library raises inside becomes one sentence of `kind`.

    A damaged file can make a library fail in any way: divide by a size of 0, miss an attribute, ask for more
    memory than there is. Our own errors and the file system's plain words pass as they are said best.
    """
    try:
        yield
    except (WindfellError, Cancelled):
        raise
    except FileNotFoundError as error:
        raise kind(path, "the file is gone; point to it again.") from error
    except MemoryError as error:
        raise kind(path, "it claims to be larger than the memory here; leave it out.") from error
    except Exception as error:
        text = " ".join(str(error).split())[:120]
        raise kind(path, f"{why} ({text or type(error).__name__}); leave it out or copy it again.") from error
