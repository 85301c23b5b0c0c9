"""Which run sheet to propose: by the symptoms, the time there is, and what the machine can show."""

from collections.abc import Collection

import msgspec

from thresher.compose.fitting import missing_rows
from thresher.model.channels import Channel, Quantity
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet, clock_text
from thresher.protocol.intake import SheetOffer

_DEVICES = {PartKind.DRIVE: "drive", PartKind.GRAPHICS: "graphics card"}


class Candidate(msgspec.Struct, frozen=True):
    """A run sheet that may be proposed, or the error of a file that is none."""

    name: str
    own: bool
    path: str
    sheet: RunSheet | None
    trouble: str = ""


def propose(
    candidates: tuple[Candidate, ...],
    symptoms: tuple[str, ...],
    minutes: float | None,
    channels: tuple[Channel, ...],
    uses: dict[str, float] | None = None,
    kinds: Collection[PartKind] = tuple(PartKind),
) -> tuple[SheetOffer, ...]:
    """Return all sheets: first those that fit most symptoms in the time available, shorter before longer.

    `uses` says when each was started last, as Unix times by name, `kinds` of what kinds of parts the machine has any.
    """
    scored = []
    for each in candidates:
        sheet = each.sheet
        if sheet is None:
            offer = SheetOffer(each.name, each.name, 0.0, "", "", "", (), False, each.own, each.path, each.trouble)
            scored.append(((2, 0, 0.0), offer))
            continue
        mine = [symptom for symptom in symptoms if symptom in sheet.reasons]
        reasons = [f"{symptom}: {sheet.reasons[symptom]}" for symptom in mine]
        too_long = minutes is not None and sheet.length_s > minutes * 60
        if too_long:
            there = clock_text((minutes or 0) * 60)
            reasons.append(f"longer than the {there} there is; it would be stopped before its end")
        if mine:
            reasons += _caveats(sheet, channels)
        missing = missing_rows(sheet, kinds)
        nothing = all(block.row in missing for block in sheet.blocks)
        reasons += [f"this machine has no {_DEVICES[row]}; its row is left out" for row in missing if not nothing]
        reasons += [f"this machine has no {_DEVICES[row]}" for row in missing if nothing]
        fits = bool(mine) and not too_long and not nothing
        offer = SheetOffer(
            each.name,
            sheet.title,
            sheet.length_s,
            sheet.about,
            sheet.finds,
            sheet.misses,
            tuple(reasons),
            fits,
            each.own,
            each.path,
            last_used=(uses or {}).get(each.name),
        )
        scored.append(((int(too_long or nothing), -len(mine), sheet.length_s), offer))
    return tuple(offer for _, offer in sorted(scored, key=lambda pair: pair[0]))


def _caveats(sheet: RunSheet, channels: tuple[Channel, ...]) -> list[str]:
    """What this machine cannot show of what the sheet looks for."""
    hot = any(
        channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR and not channel.distrust
        for channel in channels
    )
    if not hot and any(gate.kind.value == "cool down" for gate in sheet.gates):
        return ["this machine reports no processor temperature, so the cool-down waits for a fixed time"]
    if not hot and "heat" in sheet.title.lower():
        return ["this machine reports no processor temperature; heat shows only as lower clocks"]
    return []
