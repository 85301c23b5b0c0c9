"""What was seen of graphics cards under load as findings.

Times are left at 0; whoever keeps a finding sets when it came.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from thresher.graphics.cards import Link
from thresher.graphics.error_shape import shape_of
from thresher.graphics.results import Source, Wrong
from thresher.model.card_port import CardLoss
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind


@dataclass(frozen=True, slots=True)
class _Charge:
    code: str
    kind: FindingKind
    title: str
    many: str
    word: str


_CHARGES = {
    Source.COMPUTE: _Charge("G-410", FindingKind.CARD_RESULT, "Wrong compute result", "results", "lane"),
    Source.PIXEL: _Charge("G-411", FindingKind.CARD_PIXEL, "Wrong pixel", "pixels", "pixel"),
    Source.MEMORY: _Charge("G-412", FindingKind.CARD_MEMORY, "Wrong word of card memory", "words", "address"),
    Source.TRANSFER: _Charge("G-413", FindingKind.CARD_TRANSFER, "Data changed on its way", "words", "word"),
}
_FEW_BITS = 4
_LOSSES = {
    CardLoss.HUNG: ("G-310", FindingKind.GRAPHICS_HANG, "The graphics processor hangs"),
    CardLoss.RESET: ("G-311", FindingKind.GRAPHICS_HANG, "The graphics processor was reset"),
    CardLoss.GONE: ("G-321", FindingKind.CARD_GONE, "The graphics card fell off its link"),
}


def wrong_findings(card: str, wrong: Sequence[Wrong], count: int, covered: int, width: int = 0) -> list[Finding]:
    """Return a finding for each kind of wrong result; `count` were wrong in all, `wrong` are the first of them.

    `covered` are the bytes of card memory that are checked, `width` the pixels of a row of the frames. What one report
    brings is one sign, however many pixels or words it was: they went wrong together.
    """
    found = []
    for source, charge in _CHARGES.items():
        mine = [each for each in wrong if each.source is source]
        if not mine:
            continue
        share = max(len(mine), round(count * len(mine) / len(wrong)))
        first = mine[0]
        turned = [str(bit) for bit in range(32) if (first.expected ^ first.found) >> bit & 1]
        bits = f", bit {', '.join(turned)}" if len(turned) <= _FEW_BITS else f", {len(turned)} bits of it"
        bits = bits if turned else ""  # wrong once, and right when it was read again: which bits is not known
        place = _place(first, charge, width)
        known = [each for each in mine if each.expected != each.found]
        shape = shape_of(known, covered // 4) if source is Source.MEMORY and known else ""
        what = f"{first.detail}, " if first.detail else ""
        plural = charge.many if share > 1 else charge.many.removesuffix("s")
        found.append(
            Finding(
                charge.code,
                charge.kind,
                Severity.FAULT,
                PartKind.GRAPHICS,
                0.0,
                f"{charge.title}, {card}",
                f"{what}{share} {plural} wrong, first {place}{bits}" + (f"; {shape}" if shape else ""),
                card,
                raw="\n".join(f"{_place(each, charge, width)}: {_words(each)}" for each in mine),
            )
        )
    return found


def _words(wrong: Wrong) -> str:
    if wrong.expected == wrong.found:
        return wrong.detail
    return f"expected {wrong.expected:08x}, found {wrong.found:08x}"


def _place(wrong: Wrong, charge: _Charge, width: int) -> str:
    if wrong.source is Source.PIXEL and width:
        return f"pixel {wrong.place % width}, {wrong.place // width} from the bottom left"
    if wrong.source is Source.MEMORY:
        return f"address {wrong.place * 4:#x}"
    return f"{charge.word} {wrong.place}"


def loss_finding(card: str, loss: CardLoss, detail: str) -> Finding:
    """Return the finding that a card was lost while it was worked."""
    code, kind, title = _LOSSES[loss]
    return Finding(code, kind, Severity.FAULT, PartKind.GRAPHICS, 0.0, f"{title}, {card}", detail, card)


def driver_crash(card: str, detail: str) -> Finding:
    """Return the finding that the driver crashed the program that worked the card."""
    title = f"The driver of {card} crashed"
    return Finding("G-430", FindingKind.GRAPHICS_HANG, Severity.FAULT, PartKind.GRAPHICS, 0.0, title, detail, card)


def link_finding(card: str, link: Link) -> Finding:
    """Return the finding that a link under load is narrower or slower than card and port allow."""
    title = f"Link of {card} narrow under load" if link.narrow else f"Link of {card} slow under load"
    return Finding(
        "G-420", FindingKind.CARD_LINK, Severity.WARNING, PartKind.GRAPHICS, 0.0, title, f"it runs {link.words}", card
    )


def throttle_finding(card: str, clock_mhz: float, best_mhz: float, room_k: float) -> Finding:
    """Return the finding that a card lowers its clock under heat."""
    detail = f"{clock_mhz:.0f} MHz, {best_mhz:.0f} MHz before; {max(0.0, room_k):.0f} K below its limit"
    title = f"{card} lowered its clock: too hot"
    return Finding("G-441", FindingKind.CARD_HOT, Severity.WARNING, PartKind.GRAPHICS, 0.0, title, detail, card)


def artefact_finding(card: str, seen: str, frames_right: bool) -> Finding:
    """Return the finding that a person saw an artefact while every frame was compared."""
    if frames_right:
        code, kind = "G-450", FindingKind.ARTEFACT_SHOWN
        detail = "the card drew every frame right: suspect the cable, the display, or the card's output"
    else:
        code, kind = "G-451", FindingKind.ARTEFACT_DRAWN
        detail = "frames of this load came out wrong too: the card draws it"
    title = f"Artefact seen on {card}: {seen}"
    return Finding(code, kind, Severity.WARNING, PartKind.GRAPHICS, 0.0, title, detail, card)
