"""`thresher capture`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.options import Root, Simulate
from thresher.cli.output import say


def capture(
    out: Annotated[Path, typer.Option("--out", help="The capture to write, a .tar.gz.")],
    root: Root = None,
    simulate: Simulate = None,
    with_names: Annotated[bool, typer.Option(help="Keep serial numbers, addresses and names.")] = False,
) -> None:
    """Write a capture of this machine, opened with --root."""
    from thresher.app.machines import capture_machine, open_system

    count, unknown = capture_machine(open_system(root, simulate), out, with_names)
    say(f"Written: {out}, {count} files, {'names kept' if with_names else 'serial numbers and names masked'}")
    for fact in unknown:
        say(f"Not read: {fact.name}: {fact.value} ({fact.source})")
