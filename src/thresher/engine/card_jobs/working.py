"""One load of one graphics card on its way: a process of its own on this computer, commands on a simulated one."""

import queue
import signal
import threading
import time
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from thresher.engine.card_jobs.access import CardAccess
from thresher.graphics.cards import Card, Link, is_off_the_bus, read_link
from thresher.graphics.commanded import CommandedLoad
from thresher.graphics.findings import driver_crash, link_finding, loss_finding, wrong_findings
from thresher.graphics.heat import CardHeat
from thresher.graphics.order import UNITS, CardOrder
from thresher.graphics.results import CardReport, FrameTimes
from thresher.graphics.worker_process import SILENT_S, CardProcess
from thresher.model.card_port import CardLoss, CardLost, CardOpener, CardUse
from thresher.model.channels import Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.shapes import TemperatureHold, in_step

_MOST_STARTS = 4
_STOP_WITHIN_S = 0.35
"""A beat takes a tenth of a second; whoever does not end by then is ended by force."""
_START_AGAIN_S = 10.0
_LINK_EVERY_S = 5.0
_LINK_AFTER_S = 3.0
"""A link comes up to its full speed when it is worked; so long it is given for that."""
_NO_CRASH = (0, signal.SIGKILL, signal.SIGTERM)
"""A worker that says why it ends, or ends with a code, has not been crashed by the driver; a person kills by these."""


@dataclass(frozen=True, slots=True)
class _Ended:
    """What was found out about a worker that is over: how the card was lost, if it was, and the words."""

    loss: CardLoss | None
    crashed: bool
    words: str


class CardJob:
    """One load of one card."""

    def __init__(
        self, access: CardAccess, card: Card, order: CardOrder, hold_c: float | None, interval_s: float
    ) -> None:
        """`order` says what is done, `hold_c` at which temperature the card is held, if at any."""
        self.card, self.order = card, order
        self.over = False
        self.words = ""
        self.report = CardReport()
        self.software = not card.pci
        self._access, self._interval_s = access, interval_s
        self._hold = TemperatureHold(hold_c) if hold_c is not None else None
        self._process: CardProcess | None = None
        self._load: CommandedLoad | None = None
        self._load_began = 0.0
        self._came: queue.SimpleQueue[_Ended | Link] = queue.SimpleQueue()
        self._starts = 0
        self._again_at: float | None = None
        self._ending = False
        self._began = 0.0
        self._before = CardReport()
        self._heat = CardHeat(card.name)
        self._link_at: float | None = None
        self.link: Link | None = None
        self._losses = 0

    @property
    def place(self) -> str:
        """The kernel's name of the card."""
        return self.card.name

    @property
    def tested(self) -> bool:
        """Whether a card works: a software renderer is none, and a card that was lost does nothing."""
        return not self.software and self._again_at is None and self.report.beats > 0

    def begin(self) -> None:
        """Begin."""
        with self._access.taken(self.place, f"loading {self.place}"):
            self._began = self._access.system.now()
            self._start()

    def _start(self) -> None:
        self._starts += 1
        self._again_at = None
        self._before, self.report = self._totals(), CardReport()
        system = self._access.system
        if not isinstance(system, CardOpener):
            self._process = CardProcess(begun_now(self.order))
            return
        self._load_began = system.now()
        order = self.order
        try:
            folder = Path(order.folder) if order.folder else None
            self._load = CommandedLoad(system.open_card(self.card.pci), order.use, order.shape, folder, order.mirror)
        except CardLost as error:
            self._lost(_Ended(error.loss, False, error.detail or error.loss.value))
        except SourceUnavailable as error:
            self._lost(_Ended(None, False, f"{error.path}: {error.reason}"))

    # ---- going on

    def follow(self, now: float) -> None:
        """Take in what has come until machine time `now`."""
        if self.over:
            return
        if self._again_at is not None:
            if now >= self._again_at:
                self._start()
            return
        self._allow()
        if self._load is not None:
            self._advance(now)
        elif self._process is not None:
            self._listen(self._process)
        while not self._came.empty() and not self.over:
            came = self._came.get()
            if isinstance(came, Link):
                self._on_link(came)
            else:
                self._lost(came)
        if not self.over and self._again_at is None:
            self._look_at_link(now)
            hot = self._heat.look(self._access.readings(self.card), now)
            if hot is not None:
                self._find(hot)

    def _allow(self) -> None:
        if self._hold is None:
            return
        hottest = self.temperature()
        if hottest is not None:
            self._hold.step(hottest, self._interval_s)
            if self._process is not None:
                self._process.allow(self._hold.allowed)

    def _advance(self, now: float) -> None:
        assert self._load is not None
        try:
            allowed = self._hold.allowed if self._hold is not None else 1.0
            self._take(self._load.advance(now - self._load_began, allowed))
        except CardLost as error:
            self._load = None
            self._lost(_Ended(error.loss, False, error.detail or error.loss.value))

    def _listen(self, process: CardProcess) -> None:
        for report in process.take():
            self._take(report)
        if self._ending or self.over:
            return
        last = self.report
        if last.ended:
            crashed = last.signal not in _NO_CRASH
            loss = CardLoss.RESET if last.reset else None
            self._look_how(process, _Ended(loss, crashed, last.reset or last.trouble))
        elif process.silent_s > SILENT_S:
            self._look_how(process, _Ended(CardLoss.HUNG, False, f"no sign of life for {SILENT_S:.0f} s"))

    def _look_how(self, process: CardProcess, ended: _Ended) -> None:
        """Look beside the engine whether the card is still on the bus: one that hangs may take long to say so."""
        self._ending = True

        def look() -> None:
            process.close()
            try:
                gone = is_off_the_bus(self._access.system, self.card.pci)
            except SourceUnavailable:
                gone = False  # its configuration may not be read: then what was seen has to do
            self._came.put(replace(ended, loss=CardLoss.GONE) if gone else ended)

        threading.Thread(target=look, name=f"looks at {self.place}", daemon=True).start()

    def _take(self, report: CardReport) -> None:
        if report.renderer:
            self.software = report.software
            label = "; it draws on the processor: no card was tested" if report.software else ""
            self._access.note(f"{self.place} works", f"{report.renderer}{label}")
            return
        if report.ended and not report.beats:  # it says how it ended, and nothing of what it has done
            done = self.report
            self.report = msgspec.structs.replace(
                report,
                beats=done.beats,
                units=done.units,
                seconds=done.seconds,
                busy_s=done.busy_s,
                wrong_count=done.wrong_count,
                covered=done.covered,
            )
            return
        count = report.wrong_count - self.report.wrong_count
        self.report = report
        if report.frames is not None:
            self._access.board.times[self.place] = report.frames
        if count > 0 and report.wrong:
            for finding in wrong_findings(self.place, report.wrong, count, report.covered, report.frame_width):
                self._find(self._labelled(finding))
        for picture in report.pictures:
            self._access.note(f"Picture of a wrong frame, {self.place}", picture)

    def _labelled(self, finding: Finding) -> Finding:
        """A software renderer draws on the processor: what it gets wrong is the processor's or the memory's."""
        if not self.software:
            return finding
        detail = f"{finding.detail}; by the software renderer: processor or memory, no card"
        kind = FindingKind.WRONG_RESULT
        return replace(finding, detail=detail, code="P-108", kind=kind, title=f"{finding.title}, on the processor")

    def _find(self, finding: Finding) -> None:
        self._access.find(finding, self.temperature())

    def temperature(self) -> float | None:
        """Return the hottest temperature of the card in °C, None where it reports none."""
        return max(
            (value for channel, value in self._access.readings(self.card) if channel.quantity is Quantity.TEMPERATURE),
            default=None,
        )

    @property
    def wrong_count(self) -> int:
        """How many results were wrong since the load began."""
        return self._totals().wrong_count

    # ---- the link

    def _look_at_link(self, now: float) -> None:
        loaded = self.report.beats > 0 and now - self._began >= _LINK_AFTER_S
        if not self.card.pci or not loaded or (self._link_at is not None and now - self._link_at < _LINK_EVERY_S):
            return
        self._link_at = now
        system, pci = self._access.system, self.card.pci
        if self._load is not None:
            link = read_link(system, pci)
            if link is not None:
                self._on_link(link)
            return

        def look() -> None:
            link = read_link(system, pci)
            if link is not None:
                self._came.put(link)

        threading.Thread(target=look, name=f"link of {self.place}", daemon=True).start()

    def _on_link(self, link: Link) -> None:
        if self.link is None:
            self._access.note(f"Link of {self.place} under load", link.words)
        worse = self.link is None or link.width < self.link.width or link.speed < self.link.speed
        self.link = link
        # only data keeps a link at its full speed: a card that computes may let it rest
        slow = link.slow and self.order.use is CardUse.TRANSFER
        if worse and (link.narrow or slow):
            self._find(link_finding(self.place, link))

    # ---- losing it, and the end

    def _lost(self, ended: _Ended) -> None:
        self._process, self._load, self._ending = None, None, False
        self._access.board.times.pop(self.place, None)
        if ended.loss is not None:
            self._losses += 1
            found = loss_finding(self.place, ended.loss, ended.words)
            if not self._access.has_reported(found.kind):
                self._find(found)
        elif ended.crashed:
            self._find(driver_crash(self.place, ended.words))
        if ended.loss is CardLoss.GONE:
            self._end("the card left the bus; restart the machine", Severity.WARNING)
        elif not self._beaten and not ended.crashed and ended.loss is None:
            self._end(f"could not be carried out: {ended.words}; no card was tested", Severity.WARNING)
        elif self._starts >= _MOST_STARTS:
            self._end(f"gave up after {self._starts} starts: {ended.words}", Severity.WARNING)
        else:
            self._again_at = self._access.system.now() + _START_AGAIN_S
            self.words = f"lost: {ended.words}"
            detail = f"{ended.words}; started again in {_START_AGAIN_S:.0f} s"
            self._access.note(f"Load of {self.place} lost", detail, Severity.WARNING)

    @property
    def _beaten(self) -> bool:
        return self._totals().beats > 0

    def _totals(self) -> CardReport:
        one, other = self._before, self.report
        return CardReport(
            beats=one.beats + other.beats,
            units=one.units + other.units,
            seconds=one.seconds + other.seconds,
            busy_s=one.busy_s + other.busy_s,
            wrong_count=one.wrong_count + other.wrong_count,
            covered=max(one.covered, other.covered),
        )

    def share(self) -> float | None:
        """A load of a card has no end of its own."""
        return None

    def left_s(self) -> float | None:
        """A load of a card has no end of its own."""
        return None

    @property
    def frames(self) -> FrameTimes | None:
        """The newest frame times."""
        return self.report.frames

    def status(self) -> str:
        """Return how it does, in words."""
        if self.over or self._again_at is not None:
            return self.words
        return done_words(self.order.use, self._totals(), self.software)

    def stop(self) -> None:
        """End it."""
        if self.over:
            return
        total = self._totals()
        words = done_words(self.order.use, total, self.software)
        lost = f"; lost {self._losses} times" if self._losses > 1 else "; lost once" if self._losses else ""
        severity = Severity.WARNING if total.wrong_count or self._losses else Severity.NOTE
        self._end(words + lost if total.beats else "stopped before its first beat", severity)

    def _end(self, words: str, severity: Severity) -> None:
        self.over, self.words = True, words
        if self._load is not None:
            self._load.stop()
        process = self._process
        if process is not None:
            process.stop()

        def clear_up() -> None:
            if process is not None:
                process.close(_STOP_WITHIN_S)
            if self.order.mirror:
                Path(self.order.mirror).unlink(missing_ok=True)

        threading.Thread(target=clear_up, name=f"ends {self.place}", daemon=True).start()
        self._access.release(self.place)
        self._access.note(f"Load of {self.place} ended", words, severity)


def begun_now(order: CardOrder) -> CardOrder:
    """Return an order whose shape begins now, in step with every other load of the same period."""
    return msgspec.structs.replace(order, begun=in_step(order.shape, time.monotonic()))


def done_words(use: CardUse, total: CardReport, software: bool) -> str:
    """Return in words what a load of a card has done."""
    name, size = UNITS[use]
    much = total.units / size
    number = f"{much:.1f}" if size > 1 and much < 100 else f"{much:,.0f}"
    wrong = f"{total.wrong_count:,} wrong" if total.wrong_count else "all right"
    covered = f" over {total.covered / (1 << 30):.1f} GiB" if use is CardUse.MEMORY and total.covered else ""
    label = "; software renderer: no card was tested" if software else ""
    return f"{number} {name} checked{covered}, {wrong}{label}"
