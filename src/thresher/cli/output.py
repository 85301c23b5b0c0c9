"""Printing lines and JSON, and writing files that a verb was asked for."""

from pathlib import Path

import typer

from thresher.model.errors import EnvironmentFault


def say(text: str) -> None:
    """Print a line."""
    typer.echo(text)


def say_json(value: object) -> None:
    """Print plain data or values of the model as one line of JSON."""
    import msgspec  # most verbs print for people

    typer.echo(msgspec.json.encode(value).decode())


def write_text(path: Path, text: str) -> None:
    """Write a file. Raises EnvironmentFault."""
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise EnvironmentFault(
            f"writing {path}", error.strerror or str(error), "Choose a folder that you can write to."
        ) from error
