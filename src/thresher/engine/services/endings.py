"""How runs that nobody ended came to their end: looked into at the start after it, judged, kept as evidence.

What was left behind is read on a thread of its own where that may take time; `follow` brings it in. Until then the
minutes before such an end count for nothing.
"""

import os
from collections.abc import Callable
from dataclasses import replace
from functools import partial

from thresher.compose.after_crash import Reached
from thresher.endings.compare import compare
from thresher.endings.conclude import OpenEnd, conclude, with_answer
from thresher.endings.traces import (
    Traces,
    boot_id_of,
    boot_wall_of,
    fatal_lines,
    last_words_files,
    own_session,
    read_traces,
)
from thresher.engine.beside import Beside, Outcome
from thresher.engine.run.record import Record
from thresher.engine.watch.black_box import BlackBoxWatch
from thresher.engine.watch.errors import EventWatch
from thresher.journal.black_box import BoxHeader
from thresher.journal.rows import ENDING, KNOWN_WORDS, MOMENTS
from thresher.model.endings import (
    LastMoments,
    MachineEnding,
    SeenAtEnd,
    ending_sentence,
    findings_of_ending,
)
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Severity
from thresher.model.port import System, SystemKind
from thresher.protocol.events import EndingsEvent, FindingsEvent

_ANSWERS_OF_DRIVES_S = 12.0
"""How long the drives are waited for, whose power cycles say much."""
_MOST_WORDS = 200
KEPT_S = 120.0
"""So much of the black box is kept with the job."""


class EndingService:
    """Looks into every end, answers for what was seen, keeps the black box of the present boot."""

    def __init__(
        self,
        system: System,
        record: Record,
        events: EventWatch,
        box: BlackBoxWatch,
        endings: list[MachineEnding],
        moments: list[LastMoments | None],
    ) -> None:
        """`endings` are those that the job already holds, `moments` what the black box kept of each."""
        self._system, self._record, self._events = system, record, events
        self.box = box
        self.endings = endings
        self._moments = {(each.boot_id, each.at): kept for each, kept in zip(endings, moments, strict=True)}
        self._waiting: list[tuple[OpenEnd, Reached]] = []
        self.on_judged: Callable[[MachineEnding, Reached], None] = lambda _ending, _reached: None
        """Who is told of an end of a run that has been judged."""
        self._watchdog_armed = False
        self._wait_until = 0.0
        self._beside = Beside("how it ended", record.note, at_once=system.kind is not SystemKind.LIVE)
        self._cycles: dict[str, int] = {}
        self._trouble_said = ""
        self._dropped_said = 0

    @property
    def settled(self) -> bool:
        """Whether nothing is being looked into any more."""
        return not self._waiting and self._beside.idle

    def begin_box(self) -> None:
        """Begin the black box of this boot; what an earlier one held has been taken by then."""
        now, wall = self._system.now(), self._system.wall()
        known = tuple(last_words_files(self._system)[-_MOST_WORDS:])
        if known:  # also in the job: a box that is lost must not let old words speak for a new end
            self._record.writer.add_mark(None, now, KNOWN_WORDS, known)
        self.box.begin(
            BoxHeader(
                boot_id_of(self._system),
                os.getpid(),
                now,
                wall,
                boot_wall_of(self._system) or wall - now,
                self.box.channels,
                power_cycles=dict(self._cycles),
                session=own_session(self._system) if self._system.kind is SystemKind.LIVE else "",
                known_words=known,
            )
        )

    def know_cycles(self, cycles: dict[str, int]) -> None:
        """Take the power cycles that the drives count now."""
        if cycles != self._cycles:
            self._cycles = dict(cycles)
            self.box.set_header(power_cycles=dict(cycles))

    def know_watchdog(self, armed: bool) -> None:
        """Take whether the hardware watchdog is armed, so that the next start knows it."""
        if armed != self._watchdog_armed:
            self._watchdog_armed = armed
            self.box.set_header(watchdog_armed=armed)

    def look_into(self, end: OpenEnd, reached: Reached) -> None:
        """Find out how it ended; on this computer beside the engine, once the drives have answered."""
        rows = end.left.moments.rows
        if rows:
            kept = replace(end.left.moments, rows=tuple(row for row in rows if row.at >= rows[-1].at - KEPT_S))
            self._record.writer.add_mark(end.run or None, end.left.last_at, MOMENTS, kept)
            self._moments[end.left.boot_id, end.left.last_at] = kept
        self._waiting.append((end, reached))
        self._wait_until = self._system.now() + _ANSWERS_OF_DRIVES_S

    def follow(self, at: float, drives_answered: bool) -> None:
        """Go on looking, and judge what was left behind once it has been read."""
        self._report_box()
        if self._waiting and (drives_answered or at >= self._wait_until):
            waiting, self._waiting = self._waiting, []
            for end, reached in waiting:
                self._gather(end, reached)
        self._beside.follow()

    def _gather(self, end: OpenEnd, reached: Reached) -> None:
        started_with, cycles = self._events.started_with(), dict(self._cycles)

        def read() -> Outcome:
            return partial(self._judge, end, reached, read_traces(self._system, end.left, started_with, cycles))

        self._beside.do("reading what the boot before has left", read)

    def _judge(self, end: OpenEnd, reached: Reached, traces: Traces) -> None:
        for fact in traces.unread:
            self._record.note(f"Not read: {fact.name}", f"{fact.value} ({fact.source})", Severity.WARNING)
        ending = conclude(end, traces, self._events.errors_left(fatal_lines(traces, end.left)))
        self._keep(ending)
        self._record.note(ending_sentence(ending), "; ".join(each.words for each in ending.traces), Severity.WARNING)
        for finding in findings_of_ending(ending):
            self._record.note(finding.title, finding.detail, finding.severity, finding.code, finding.part)
        compared = compare(self.endings) if ending.is_evidence else ()
        if compared:
            self._record.note("Ends compared", ". ".join(compared))
        if end.run:
            self.on_judged(ending, reached)

    def _keep(self, ending: MachineEnding) -> None:
        self._record.writer.add_mark(ending.run or None, ending.at, ENDING, ending)
        before = [each for each in self.endings if (each.boot_id, each.at) != (ending.boot_id, ending.at)]
        for old in self.endings:
            if old not in before:
                gone = findings_of_ending(old)
                self._record.findings[:] = [each for each in self._record.findings if each not in gone]
        self.endings[:] = [*before, ending]
        self._record.findings += findings_of_ending(ending)
        self._record.changed = True
        self._record.publish(EndingsEvent(tuple(self.endings)))
        self._record.publish(FindingsEvent(tuple(self._record.findings)))

    def answer(self, number: int, seen: SeenAtEnd) -> MachineEnding:
        """Take what somebody saw of the end of a number, from 0. Raises EnvironmentFault when there is none."""
        if not 0 <= number < len(self.endings):
            raise EnvironmentFault("answering", "there is no such end", "Open the job again.")
        ending = self.endings[number]
        said = with_answer(ending, seen)
        self._keep(said)
        self._record.note(ending_sentence(said), f"somebody said: {seen.value}")
        return said

    def moments(self, number: int) -> LastMoments | None:
        """Return the last rows of the black box before an end of a number, None when none were kept."""
        if not 0 <= number < len(self.endings):
            return None
        return self._moments.get((self.endings[number].boot_id, self.endings[number].at))

    def _report_box(self) -> None:
        state = self.box.state
        if state.trouble and state.trouble != self._trouble_said:
            self._record.note("The black box cannot be written", state.trouble, Severity.WARNING, "X-820")
        self._trouble_said = state.trouble
        if state.dropped > self._dropped_said + 20:
            detail = f"{state.dropped} rows so far: the drive with the job file does not take them in time"
            self._record.note("The black box loses rows", detail, Severity.WARNING, "X-820")
            self._dropped_said = state.dropped

    def close(self, how: str, asked_by: int, run_broken_off: bool) -> None:
        """Leave the box as one that was ended in order, or that somebody else has to look into."""
        self.box.set_header(closed="" if run_broken_off else how, asked_by=asked_by)
        self.box.close(needed=run_broken_off)
