"""Asking one of the program's own modules, as a process apart, one question: JSON in, JSON out.

For what may take long or hang, such as a job file on a dying drive. Both sides share how a failure is told.
"""

import subprocess
from typing import TypeVar

import msgspec

from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.own_program import own_command

T = TypeVar("T")


class Failure(msgspec.Struct, frozen=True):
    """Why there is no answer: what was tried, what happened and what to do, or every fault of an input."""

    tried: str
    happened: str = ""
    remedy: str = ""
    faults: tuple[tuple[str, str], ...] = ()

    def error(self) -> InputError | EnvironmentFault:
        """Return the error again."""
        if self.faults:
            return InputError(self.tried, [InputFault(*each) for each in self.faults])
        return EnvironmentFault(self.tried, self.happened, self.remedy)


def failure_of(error: InputError | EnvironmentFault) -> Failure:
    """Return an error in the form that goes to the other process."""
    if isinstance(error, InputError):
        return Failure(error.source, faults=tuple((fault.place, fault.message) for fault in error.faults))
    return Failure(error.tried, error.happened, error.todo)


def ask_apart(order: bytes, answer: type[T], tried: str, at_most_s: float, module: str, *arguments: str) -> T:
    """Run a module with `order` on its standard input and return what it answers.

    Raises EnvironmentFault when it takes too long or gives no answer; `tried` says for a person what was wanted.
    """
    try:
        done = subprocess.run(
            own_command(module, *arguments), input=order, capture_output=True, timeout=at_most_s, check=False
        )
    except subprocess.TimeoutExpired as error:
        remedy = "The drive with the job file may be failing: copy the job to another drive first."
        raise EnvironmentFault(tried, f"not done after {at_most_s:.0f} s", remedy) from error
    try:
        return msgspec.json.decode(done.stdout, type=answer)
    except msgspec.DecodeError as error:
        said = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2]
        happened = said or f"its process ended with {done.returncode}"
        raise EnvironmentFault(tried, happened, "Try again; thresher log has more.") from error
