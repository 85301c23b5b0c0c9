"""The vitals: what matters, large enough to read from two metres."""

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.model.channels import LimitSide, Quantity
from thresher.model.parts import PartKind
from thresher.model.sheet import clock_text
from thresher.model.verdict import percent, suspect_title
from thresher.sensors.vital_readings import package_power, slowest_clock, worst_rail
from thresher.ui.look import Look, draw_fitting, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.load_card import minutes_text

_SUSPECTED = 0.5
"""From this probability on, the suspect is shown instead of the time to a clean proof."""


@dataclass(frozen=True, slots=True)
class Vital:
    """One card: title, number, unit, a line below, whether that line is a warning, and the full story."""

    title: str
    number: str
    unit: str
    line: str
    warning: bool
    part: PartKind | None
    about: str


def _about(*lines: str) -> str:
    """Join what is to be shown, leaving out what is not known."""
    return "\n".join(line for line in lines if line)


def _none(title: str, why: str, part: PartKind | None) -> Vital:
    return Vital(title, "–", "", why, False, part, why)


def _headroom(state: BenchState) -> Vital:
    room = state.nearest_limit(Quantity.TEMPERATURE, LimitSide.BELOW)
    if room is None:
        return _none("Headroom", "no temperature with a limit", PartKind.PROCESSOR)
    channel = state.channels[room.index]
    return Vital(
        "Headroom",
        f"{room.value:.0f}",
        "K",
        f"{channel.name.lower()} at {room.reading:.0f} of {room.limit.value:.0f} °C",
        room.value < 10,
        channel.kind,
        _about(
            f"{channel.name}: {room.reading:.1f} °C, read from {channel.source}.",
            state.extremes_text(room.index),
            f"Limit {room.limit.value:g} °C, {room.limit.source}. Headroom is what is left to it.",
        ),
    )


def _slowest(state: BenchState) -> Vital:
    busy = set(state.run.busy_cores)
    slowest = slowest_clock(state.channels, state.tick, busy) if state.tick is not None else None
    if slowest is None:
        return _none("Slowest core", "no clocks reported", PartKind.PROCESSOR)
    value, index = slowest
    channel = state.channels[index]
    limit = channel.limit(LimitSide.ABOVE)
    below = bool(busy) and limit is not None and value < limit.value * 0.985
    base = f"base {limit.value:.2f}" if limit else channel.name
    line = f"below its {base}" if below else base if busy else f"idle, {base}"
    return Vital(
        "Slowest core",
        f"{value:.2f}",
        "GHz",
        line,
        below,
        channel.kind,
        _about(
            f"{channel.name}: {value:.2f} GHz, read from {channel.source}.",
            state.extremes_text(index),
            f"Under load not below {limit.value:.2f} GHz, {limit.source}." if limit else "Base clock unknown.",
        ),
    )


def _package(state: BenchState) -> Vital:
    found = package_power(state.channels, state.tick) if state.tick is not None else None
    if found is None:
        return _none("Package", "no power counter here", PartKind.POWER)
    value, index = found
    channel = state.channels[index]
    limit = channel.limit(LimitSide.BELOW)
    return Vital(
        "Package",
        f"{value:.0f}",
        "W",
        f"limit {limit.value:.0f} W" if limit else "no limit known",
        False,
        PartKind.POWER,
        _about(
            f"{channel.name}: {value:.1f} W, from the energy counter {channel.source}.",
            state.extremes_text(index),
        ),
    )


def _rail(state: BenchState) -> Vital:
    worst = worst_rail(state.channels, state.tick) if state.tick is not None else None
    if worst is None:
        return _none("Rails", "no rail voltages reported", PartKind.POWER)
    channel = state.channels[worst.index]
    off = (worst.reading / worst.nominal - 1) * 100
    return Vital(
        f"Rail {channel.name}",
        f"{worst.reading:.2f}".replace("-", "−"),
        "V",
        f"{off:+.1f} % of ±{worst.tolerance * 100:.0f} %".replace("-", "−"),
        worst.share_left < 0.4,
        PartKind.POWER,
        _about(
            f"The rail nearest its limit: {channel.name}, {worst.reading:.3f} V, read from {channel.source}.",
            state.extremes_text(worst.index),
            *(f"Must stay {each.side.value} {each.value:.2f} V, {each.source}." for each in worst.limits),
            "Board sensors are rough; confirm with a meter at the plug.",
        ),
    )


def _faults(state: BenchState) -> Vital:
    found = state.run_findings()
    wrong, corrected = state.run.mismatches, state.run.corrected
    words = [f"{wrong} wrong" if wrong else "", f"{corrected} corrected" if corrected else ""]
    rest = len(found) - sum(finding.kind.value in ("wrong result", "corrected machine check") for finding in found)
    named = ", ".join(word for word in words if word)
    line = f"{named} + {rest}" if named and rest else named or (f"{rest} of other kinds" if rest else "")
    line = line or ("none in this run" if state.run.run else "no run yet")
    return Vital(
        "Findings",
        str(len(found)),
        "",
        line,
        bool(found),
        None,
        "Everything in this run that counts as evidence: wrong results, machine checks, limits reached.\n"
        "The tape at the right has each with its fault code.",
    )


def _sure(state: BenchState) -> Vital:
    verdict = state.verdict
    if verdict is None or (verdict.shown_share <= 0 and verdict.minutes_to_sure is None):
        return _none("Clean proof", "needs time under load", None)
    top = verdict.suspects[0]
    summary = (
        f"Of the faults that these loads can show, {percent(verdict.shown_share)} would have been detected by now.\n"
        f"99 % after {minutes_text(verdict.minutes_to_very_sure)} more of the newest load.\n"
        "Minutes count by load and temperature; the strength of faults is taken as unknown over two decades."
    )
    if top.kind is not None and top.probability >= _SUSPECTED and state.findings:
        number = percent(top.probability).removesuffix(" %")
        about = f"How likely the first suspect is, by all evidence of this job.\n{summary}"
        return Vital("Suspect", number, "%", suspect_title(top), False, top.kind, about)
    if verdict.minutes_to_sure is None:
        return Vital("Clean proof", "> 1000", "h", "under these conditions", False, None, summary)
    left = clock_text(verdict.minutes_to_sure * 60)[:-3]
    line = f"more without a fault; {percent(verdict.shown_share)} done"
    about = f"Running clean for so long makes it 95 % sure that nothing is wrong.\n{summary}"
    return Vital("Clean proof", left, "h", line, False, None, about)


def vitals(state: BenchState) -> list[Vital]:
    """Return the six cards for the present state."""
    return [make(state) for make in (_headroom, _slowest, _package, _rail, _faults, _sure)]


class VitalsBar(PaintedWidget):
    """The six cards in a row."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Keep one height, so that nothing jumps."""
        super().__init__(state, look, "Vitals", parent)
        self.setFixedHeight(80)

    def draw(self, painter: QPainter) -> None:
        """Draw the cards."""
        scheme = self.look.scheme
        cards = vitals(self.state)
        gap = 4.0
        wide = (self.width() - gap * (len(cards) - 1)) / len(cards)
        for number, card in enumerate(cards):
            area = QRectF(number * (wide + gap), 0, wide, self.height())
            painter.fillRect(area, QColor(scheme.panel))
            painter.setPen(QPen(QColor(scheme.rule), 1.5))
            painter.drawRect(area.adjusted(0.75, 0.75, -0.75, -0.75))
            painter.fillRect(QRectF(area.x(), area.y(), 4, area.height()), scheme.part(card.part))
            x = area.x() + 15
            draw_text(painter, QPointF(x, 20), card.title.upper(), scheme.soft, 11, bold=True, width=wide - 24)
            colour = scheme.fault if card.warning and card.part is None else scheme.ink
            size = 28.0 if text_width(card.number, 28, bold=True) < wide - 60 else 20.0
            written = draw_text(painter, QPointF(x, 51), card.number, colour, size, bold=True)
            draw_text(painter, QPointF(x + written + 5, 51), card.unit, scheme.soft, 15)
            line_colour = scheme.fault if card.warning else scheme.soft
            draw_fitting(painter, QPointF(x, 70), card.line, line_colour, 12, wide - 24)
            self.spots.append(Spot(area, card.about))
        self.setAccessibleDescription("; ".join(f"{c.title} {c.number} {c.unit}, {c.line}" for c in cards))
