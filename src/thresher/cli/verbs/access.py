"""`thresher access`."""

from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.cli.output import say, say_json


def access(
    ask: Annotated[bool, typer.Option("--ask", help="Have an administrator asked for full access first.")] = False,
    json: Json = False,
) -> None:
    """Show what Thresher may do on this computer, what more would bring, and how to get it."""
    from thresher.machine.access import AccessClient
    from thresher.model.access import Allowed

    client = AccessClient()
    found = client.ask() if ask else client.access()
    client.close()
    if json:
        say_json(found)
    else:
        say(found.sentence.capitalize())
        for each in found.items:
            word = {Allowed.YES: "yes", Allowed.ASK: "ask", Allowed.NO: "no"}[each.allowed]
            say(f"  {word:<4} {each.words}: {each.brings}")
        for line in _how(found.can_ask, found.why, bool(found.missing)):
            say(line)
    raise typer.Exit(FAULTS if found.missing else FINE)


def _how(can_ask: bool, why: str, missing: bool) -> list[str]:
    if not missing:
        return []
    if why:
        return [f"Not to be had: {why}.", "As root all of it is allowed."]
    if can_ask:
        return [
            "An administrator is asked by the desktop: click on the access at the bottom of the window,",
            "or begin a command with thresher --ask, such as thresher --ask inventory.",
        ]
    return ["The rules of this computer (polkit) do not allow it in this session: see docs/security.md."]
