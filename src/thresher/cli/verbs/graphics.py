"""`thresher graphics`: which cards can be worked, and work on one of them whose every result is checked."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS
from thresher.cli.options import Json
from thresher.cli.output import say, say_json
from thresher.model.card_port import CardUse


def graphics_app() -> typer.Typer:
    """Return the verbs about graphics cards."""
    app = typer.Typer(help="Graphics cards: which can be worked, and checked loads on one.", rich_markup_mode=None)
    app.command("list")(list_cards)
    app.command("load")(load)
    return app


def list_cards(json: Json = False) -> None:
    """List the cards that OpenGL offers here, software renderers by that name."""
    from thresher.app.machines import open_system
    from thresher.graphics.listing import listed_devices
    from thresher.inventory.machine import read_inventory
    from thresher.model.parts import PartKind

    devices = listed_devices()
    parts = [part for part in read_inventory(open_system(None, None)).parts if part.kind is PartKind.GRAPHICS]
    names = {
        each.pci: next((part.name for part in parts if each.pci in part.place), "") for each in devices if each.pci
    }
    if json:
        say_json([{"device": each, "name": names.get(each.pci, "")} for each in devices])
        return
    for each in devices:
        if each.software:
            say("software      a renderer on the processor; no card is tested by it")
        else:
            say(f"{each.pci or 'no address'}  {names.get(each.pci, '') or 'a card'}, {each.node or each.render_node}")
    for part in parts:
        if not any(each.pci and each.pci in part.place for each in devices):
            say(f"{part.place}  {part.name}: OpenGL does not offer it; its driver is missing or does not start")


def load(
    card: Annotated[str, typer.Argument(help="A PCI address such as 0000:01:00.0; the first card if left out.")] = "",
    use: Annotated[CardUse, typer.Option("--use", help="What is done with it.")] = CardUse.COMPUTE,
    seconds: Annotated[str, typer.Option("--for", help="How long, such as 30s or 10m.")] = "60s",
    amount: Annotated[str, typer.Option("--amount", help="Card memory, such as 4GiB.")] = "",
    pictures: Annotated[
        Path | None, typer.Option("--pictures", help="Where pictures of wrong frames are kept.")
    ] = None,
    software: Annotated[bool, typer.Option("--software", help="Work the software renderer; tests no card.")] = False,
    json: Json = False,
) -> None:
    """Work a card and check every result. Ends with 1 where results were wrong, with 2 where no card was tested."""
    from thresher.cli.graphics_load import CardWish, load_card

    outcome = load_card(CardWish(card, use, seconds, amount, pictures, software), json)
    if outcome.wrong_count:
        raise typer.Exit(FAULTS)
    if outcome.software or outcome.trouble or not outcome.beats:
        raise typer.Exit(COULD_NOT)
