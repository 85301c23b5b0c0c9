"""A verb from outside the source tree."""

import typer


def greet(name: str) -> None:
    """Greet a machine by name."""
    typer.echo(f"Machine on the bench: {name}")
