"""Errors that say whose fault it is: the environment's, the input's, or ours.

Every message is a whole sentence for a person: what was tried, what happened, what to do. The window, the
command line and the report all print the same one.
"""

from collections.abc import Sequence
from dataclasses import dataclass


class ThresherError(Exception):
    """The root of all errors that Thresher raises on purpose."""


class EnvironmentFault(ThresherError):
    """The surroundings do not allow it: a permission, a full disk, a missing device or display."""

    def __init__(self, tried: str, happened: str, todo: str) -> None:
        """Join what was tried, what happened and what to do into one message."""
        self.tried = tried
        self.happened = happened
        self.todo = todo
        super().__init__(f"{tried}: {happened.removesuffix('.')}. {todo}".removesuffix(". "))


@dataclass(frozen=True, slots=True)
class InputFault:
    """One thing that is wrong in an input: where, and what was expected."""

    place: str
    message: str

    def __str__(self) -> str:
        """Render as `place: message`."""
        return f"{self.place}: {self.message}"


class InputError(ThresherError):
    """A file, text or command that came from outside is wrong; holds every fault found, not the first."""

    def __init__(self, source: str, faults: Sequence[InputFault]) -> None:
        """Keep the name of the input and its faults (at least one)."""
        self.source = source
        self.faults = tuple(faults)
        super().__init__("\n".join([f"{source} cannot be used:", *(f"  {fault}" for fault in self.faults)]))


class SourceUnavailable(ThresherError):
    """A file of the machine cannot be read now; `reason` is a short word for a person."""

    def __init__(self, path: str, reason: str) -> None:
        """Keep the path inside the machine and the reason."""
        self.path = path
        self.reason = reason
        super().__init__(f"{path}: {reason}")


class IllegalTransition(ThresherError):
    """A bug in Thresher: a state was left for one that the table does not allow."""


class BugError(ThresherError):
    """A bug in Thresher: what it was doing, and what to send to whoever maintains it."""

    def __init__(self, what: str, trace: str) -> None:
        """Keep the error's own words and the lines of code that it came through."""
        self.what = what
        self.trace = trace
        super().__init__(
            f"Thresher has a bug: {what}. Nothing on this machine is at fault.\n"
            f"Send the following lines to whoever maintains Thresher, with what you did just before:\n{trace}"
        )

    @classmethod
    def of(cls, error: BaseException, lines: Sequence[str] = ()) -> "BugError":
        """Return the bug behind an error that nobody expected; `lines` is its traceback."""
        places = [place for line in lines for place in line.splitlines() if place.lstrip().startswith("File ")]
        return cls(f"{type(error).__name__}: {error}", "\n".join(f"  {place.strip()}" for place in places[-6:]))
