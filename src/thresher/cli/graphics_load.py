"""`thresher graphics load`: one load of one card, followed on the terminal."""

import time
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.cli.output import say, say_json
from thresher.compose.entry import EntryError, parse_amount, parse_length
from thresher.graphics.error_shape import shape_of
from thresher.graphics.listing import listed_devices
from thresher.graphics.order import UNITS, CardOrder
from thresher.graphics.results import CardReport, Wrong
from thresher.graphics.worker_process import SILENT_S, CardProcess
from thresher.model.card_port import CardUse
from thresher.model.errors import EnvironmentFault, InputError, InputFault

_SAY_S = 2.0
_MOST_LISTED = 6
_POLL_S = 0.05


@dataclass(frozen=True, slots=True)
class CardWish:
    """What was typed."""

    card: str
    use: CardUse
    seconds: str
    amount: str
    pictures: Path | None
    software: bool


def load_card(wish: CardWish, json: bool) -> CardReport:
    """Work a card and print what comes of it; return its totals. Raises ThresherError."""
    try:
        seconds = parse_length(wish.seconds)
        amount = parse_amount(wish.amount)[1] if wish.amount else None
    except EntryError as error:
        raise InputError("graphics load", [InputFault("--for or --amount", str(error))]) from error
    pci = _card(wish)
    folder = str(wish.pictures.absolute()) if wish.pictures is not None else ""
    order = CardOrder(wish.use, pci, amount or 0, folder=folder, begun=time.monotonic())
    process = CardProcess(order)
    try:
        total, wrong = _follow(process, wish.use, seconds, json)
    finally:
        process.close()
    _say_end(wish.use, total, wrong, json)
    return total


def _card(wish: CardWish) -> str:
    """Return the PCI address of the card that is meant, empty for the software renderer."""
    devices = listed_devices()
    cards = [each.pci for each in devices if each.pci]
    if wish.software:
        return ""
    if wish.card:
        if wish.card not in cards:
            message = f"OpenGL offers {', '.join(cards) or 'no card'} here"
            raise InputError("graphics load", [InputFault(wish.card, message)])
        return wish.card
    if not cards:
        why = (
            "OpenGL offers no card here, only a renderer on the processor" if devices else "OpenGL offers nothing here"
        )
        raise EnvironmentFault("working a graphics card", why, "Install the card's driver. No card was tested.")
    return cards[0]


def _follow(process: CardProcess, use: CardUse, seconds: float, json: bool) -> tuple[CardReport, list[Wrong]]:
    """Follow the reports until the time is over; return the totals and the wrong results."""
    total = CardReport()
    wrong: list[Wrong] = []
    began: float | None = None
    said = time.monotonic()
    stopping = False
    while not total.ended:
        for report in process.take():
            wrong += report.wrong
            named = (total.renderer or report.renderer, total.software or report.software)
            total = msgspec.structs.replace(report, renderer=named[0], software=named[1])
            if began is None and report.beats:
                began = time.monotonic()
        if process.silent_s > SILENT_S:
            trouble = f"the card has not answered for {SILENT_S:.0f} s; its worker was ended"
            return msgspec.structs.replace(total, trouble=trouble, ended=True), wrong
        if began is not None and not stopping and time.monotonic() - began >= seconds:
            process.stop()
            stopping = True
        if not json and total.beats and time.monotonic() - said >= _SAY_S:
            said = time.monotonic()
            say(f"    {_rate(use, total)}, {total.wrong_count} wrong")
        process.wait(_POLL_S)
    return total, wrong


def _rate(use: CardUse, report: CardReport) -> str:
    unit, per = UNITS[use]
    rate = report.units / max(report.seconds, 1e-3) / per
    frames = (
        f", {report.frames.middle_ms:.1f} ms a beat, longest {report.frames.longest_ms:.1f}" if report.frames else ""
    )
    return f"{rate:.3g} {unit}/s{frames}"


def _say_end(use: CardUse, total: CardReport, wrong: list[Wrong], json: bool) -> None:
    if json:
        say_json({"use": use, "report": total, "wrong": wrong})
        return
    say(f"{total.renderer or 'the card'}: {use.value}, {_rate(use, total)}, {total.beats} beats checked")
    if total.covered:
        say(f"    {total.covered / (1 << 30):.2f} GiB of its memory were checked")
    if total.trouble or total.reset:
        say(f"    {total.trouble or total.reset}")
    for each in wrong[:_MOST_LISTED]:
        detail = f" ({each.detail})" if each.detail else ""
        say(f"    {each.source.value} at {each.place}: {each.expected:08x} expected, {each.found:08x} found{detail}")
    if total.wrong_count > _MOST_LISTED:
        say(f"    {total.wrong_count} wrong in all")
    if shape := shape_of(wrong, max(1, total.covered // 4)):
        say(f"    {shape}")
    if total.software:
        say("    No card was tested: this is a renderer on the processor.")
