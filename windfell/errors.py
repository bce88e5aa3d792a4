"""What can go wrong, each said as one sentence for the user: what, which file, what to do."""


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
        self.path = str(path)


class CannotJoin(WindfellError):
    """The frames of a set cannot become one picture; the text names which and why."""


class BadRequest(WindfellError):
    """The request contradicts itself or asks for something that does not exist."""
