"""Proof after a repair: the same sheet again, from the same start temperature."""

from dataclasses import replace

from thresher.compare.comparison import Comparison
from thresher.model.sheet import Gate, GateKind, RunSheet

_WAIT_S, _MOST_S = 120.0, 1800.0
_WITHIN_K = 3.0


def proof_sheet(found: Comparison) -> RunSheet:
    """Return the sheet that proves a repair: that of the newest run, once the part is as cold as it was before it.

    What runs were compared to sets the start temperature: the earlier run's where there are two.
    """
    place = found.difference.first if found.difference is not None else -1
    sheet, start_c = found.runs[-1].choice.plan, found.runs[place].start_c
    title = sheet.title if sheet.title.startswith("Proof: ") else f"Proof: {sheet.title}"
    if start_c is None:
        return replace(sheet, title=title)
    later = _WAIT_S
    blocks = tuple(replace(block, start_s=block.start_s + later) for block in sheet.blocks)
    gates = tuple(
        replace(gate, start_s=gate.start_s + later) for gate in sheet.gates if gate.kind is not GateKind.COOL_DOWN
    )
    cold = Gate(GateKind.COOL_DOWN, 0.0, _WAIT_S, _MOST_S, _WITHIN_K, round(start_c, 1))
    return replace(sheet, title=title, blocks=blocks, gates=(cold, *gates))
