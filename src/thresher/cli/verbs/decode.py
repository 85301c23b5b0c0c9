"""`thresher decode`."""

from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.model.errors import InputError, InputFault
from thresher.model.vendors import Vendor


def decode(
    what: Annotated[str, typer.Argument(help="A fault code, register, stop code, lines of a log, a file, or -.")] = "",
    vendor: Annotated[Vendor, typer.Option(help="Register layout if the text does not name one.")] = Vendor.INTEL,
    boot: Annotated[int | None, typer.Option(max=0, help="The journal of this boot (0) or an earlier one.")] = None,
    json: Json = False,
) -> None:
    """Decode codes, registers, dumps, records and kernel logs."""
    from thresher.cli.decoding import decode_boot, decode_given, print_decoded

    if bool(what) == (boot is not None):
        raise InputError("decode", [InputFault("what", "give something to decode, or --boot")])
    decoded = decode_boot(boot, vendor) if boot is not None else decode_given(what, vendor)
    print_decoded(decoded, json)
    looked_up = all(thing.what == "fault code" for thing in decoded.things)
    raise typer.Exit(FINE if looked_up or not decoded.findings else FAULTS)
