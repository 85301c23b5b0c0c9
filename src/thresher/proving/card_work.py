"""Work on one graphics card of a simulated machine, as far as its time has passed, for runs without an engine."""

from collections.abc import Sequence

from thresher.graphics.cards import Card, read_link
from thresher.graphics.commanded import CommandedLoad
from thresher.graphics.findings import artefact_finding, link_finding, wrong_findings
from thresher.graphics.heat import CardHeat
from thresher.model.card_port import CardLoss, CardLost, CardUse
from thresher.model.channels import Channel
from thresher.model.findings import Finding
from thresher.simulator.machine import SimulatedMachine

_MOST_LOSSES = 3


class CardWork:
    """One use of one card, watched by a person where it draws; `over` when nothing more comes of it."""

    def __init__(self, machine: SimulatedMachine, card: Card, use: CardUse) -> None:
        """Begin."""
        self._machine, self._card, self._use = machine, card, use
        self.over = False
        self._heat = CardHeat(card.name)
        self._load: CommandedLoad | None = None
        self._begun_at = 0.0
        self._wrong, self._losses = 0, 0
        self._link_found = False
        self._start()

    def _start(self) -> None:
        self._begun_at, self._wrong = self._machine.now(), 0
        try:
            self._load = CommandedLoad(self._machine.open_card(self._card.pci), self._use)
        except CardLost:
            self.over = True

    def advance(self, readings: Sequence[tuple[Channel, float]]) -> list[Finding]:
        """Work until the machine's present time; return what is found now."""
        if self.over or self._load is None:
            return []
        now = self._machine.now()
        try:
            report = self._load.advance(now - self._begun_at)
        except CardLost as error:
            return self._lost(error.loss)
        found = []
        if report.wrong_count > self._wrong:
            found += wrong_findings(self._card.name, report.wrong, report.wrong_count - self._wrong, report.covered)
            self._wrong = report.wrong_count
        if self._use is CardUse.RASTER:
            right = not report.wrong_count
            found += [artefact_finding(self._card.name, seen, right) for seen in self._machine.seen_on_display()]
        hot = self._heat.look(readings, now)
        if hot is not None:
            found.append(hot)
        return found + self._link()

    def _link(self) -> list[Finding]:
        link = None if self._link_found else read_link(self._machine, self._card.pci)
        if link is None or not link.narrow:
            return []
        self._link_found = True
        return [link_finding(self._card.name, link)]

    def _lost(self, loss: CardLoss) -> list[Finding]:
        self._losses += 1
        if loss is CardLoss.GONE or self._losses >= _MOST_LOSSES:
            self.over = True
        else:
            self._start()
        return []  # the kernel's log has it by now

    def stop(self) -> None:
        """Send no more commands."""
        if self._load is not None and not self.over:
            self._load.stop()
