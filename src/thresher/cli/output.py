"""Printing lines and JSON, and writing files that a verb was asked for."""

import contextlib
import os
import sys
from pathlib import Path

import typer

from thresher.model.whole_file import write_whole

_CONTROLS = {code: f"\\x{code:02x}" for code in (*range(32), *range(127, 160)) if chr(code) not in "\n\t"}


def printable(text: str) -> str:
    """Return a text with control characters shown as such: what a log or name holds never steers the terminal."""
    return text.translate(_CONTROLS)


def say(text: str) -> None:
    """Print a line."""
    _print(printable(text))


def say_error(text: str) -> None:
    """Print a line on standard error, as far as anybody takes it."""
    with contextlib.suppress(OSError):
        typer.echo(printable(text), err=True)


def _print(line: str) -> None:
    """Print a line; where nobody takes it any more (a closed pipe, a full device), go on without output.

    What is under way is in the job file; it must not end because a terminal has gone.
    """
    try:
        typer.echo(line)
    except OSError as error:
        import logging  # only needed when output breaks

        logging.getLogger(__name__).warning("output has ended: %s", error.strerror or error)
        devnull = os.open(os.devnull, os.O_WRONLY)
        os.dup2(devnull, 1)
        os.close(devnull)
        sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115 (lasts as long as the program)


def say_json(value: object) -> None:
    """Print plain data or values of the model as one line of JSON."""
    import msgspec  # most verbs print for people

    _print(msgspec.json.encode(value).decode())


def write_text(path: Path, text: str) -> None:
    """Write a text file as a whole, to be read by everyone. Raises EnvironmentFault."""
    write_whole(path, text.encode("utf-8"), 0o644)
