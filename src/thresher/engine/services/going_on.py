"""A run that goes on by itself after a sudden end: what comes next, the countdown before it, and when it gives up.

The state is in the job file before anything is started, so that a machine that ends while it starts is known to have
done so, and a loop of such starts comes to its own end. Everything that starts by itself can be stopped: by a command
from any window or key, or by a file beside the job.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

import msgspec

from thresher.compose.after_crash import (
    Continuation,
    Group,
    Reached,
    Tried,
    after_clean,
    after_end,
    next_words,
)
from thresher.diagnosis.knowledge import Knowledge
from thresher.engine.beside import Beside, Outcome
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.record import Record
from thresher.model.endings import EndingKind, MachineEnding, ending_sentence
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Severity
from thresher.model.keeping_port import Restart
from thresher.model.port import System, SystemKind
from thresher.model.regular_file import is_there
from thresher.model.run_states import Ending
from thresher.model.sheet import AfterCrash, Block, RunSheet
from thresher.model.verdict import Verdict
from thresher.protocol.events import GoingOnEvent, TriedGroup

COUNTDOWN_S = 30.0
BETWEEN_GROUPS_S = 5.0
_CLOSE_S = 3.0
STOP_SUFFIX = ".stop"
_BY_PERSON = (EndingKind.SHUT_DOWN,)


@dataclass(frozen=True, slots=True)
class GoingOnContext:
    """What it works with; `start` starts a sheet and raises EnvironmentFault, `verdict` is the newest."""

    system: System
    record: Record
    conductor: Conductor
    knowledge: Knowledge
    restart: Restart | None
    start: Callable[[RunSheet], None]
    verdict: Callable[[], Verdict | None]


class GoingOn:
    """Carries a run on over sudden ends of the machine."""

    def __init__(self, context: GoingOnContext, stored: str) -> None:
        """`stored` is the state that the job file holds, empty for none."""
        self._context, self._record = context, context.record
        self._state = msgspec.json.decode(stored, type=Continuation) if stored else None
        self._due: float | None = None
        self._run: int | None = None
        self._happened = ""
        self._own_start = False
        self._taken_up = False
        self._settled: set[int] = set()
        self._beside = Beside("going on", context.record.note, at_once=context.system.kind is not SystemKind.LIVE)
        self._looking = False
        self.stop_file = self._record.writer.path.with_name(self._record.writer.path.name + STOP_SUFFIX)

    @property
    def pending(self) -> bool:
        """Whether something is going to be started by itself."""
        return self._due is not None

    @property
    def awaits(self) -> bool:
        """Whether the job was left with a run that is to go on, and how it ended is being looked into."""
        return self._state is not None and not self._state.given_up and not self._context.conductor.active

    def event(self) -> GoingOnEvent:
        """Return where it stands."""
        state = self._state
        if state is None:
            return GoingOnEvent()
        found = state.isolation
        return GoingOnEvent(
            self._happened,
            next_words(state) if self.pending else "",
            self._due,
            state.ends,
            state.sheet.crash.most,
            state.given_up,
            tuple(_as_tried(each) for each in found.tried) if found is not None else (),
            found.named if found is not None else "",
        )

    # ---- a run begins and ends

    def run_begins(self, run: int, sheet: RunSheet) -> None:
        """Take up a run that has begun: one that a person started, or one of our own."""
        self._take_up_run(run, sheet)
        self._record.publish(self.event())

    def _take_up_run(self, run: int, sheet: RunSheet) -> None:
        self._run = run
        self._due = None
        if sheet.crash.then is AfterCrash.WAIT:
            self._leave("")
            return
        if not self._own_start or self._state is None:
            self._state, self._happened = Continuation(sheet, sheet), ""
        self._own_start = False
        state = self._state
        self._keep(replace(state, next_sheet=sheet, starts=state.starts + 1, started_wall=self._context.system.wall()))
        restart = self._context.restart
        if restart is None:
            return

        def install() -> Outcome:
            try:
                how = restart.install(self._record.writer.path)
            except EnvironmentFault as error:
                title = "It will not go on by itself after a start"
                return partial(self._record.note, title, str(error), Severity.WARNING, "X-840")
            return partial(self._record.note, "Goes on by itself after a sudden end", how)

        self._beside.do("arranging that it goes on by itself", install)

    def ended_suddenly(self, ending: MachineEnding, reached: Reached) -> None:
        """Decide what comes next after a sudden end."""
        state = self._state
        if state is None or state.given_up:
            return
        self._happened = ending_sentence(ending)
        if ending.kind in _BY_PERSON:
            self._give_up(replace(state, ends=state.ends + 1), "a person shut the machine down")
            return
        cores = tuple(sorted({cpu.core for cpu in self._record.inventory.cpus}))
        after = after_end(state, reached, ending.loaded_s, cores, self._chance, ending.is_evidence)
        if after.given_up or after.next_sheet is None:
            self._give_up(after, after.given_up or "nothing of the run was left")
            return
        since = self._context.system.wall() - state.started_wall
        pause = max(COUNTDOWN_S, state.sheet.crash.between_s - since)
        self._plan(after, pause)

    def take_up(self) -> None:
        """Once after the job was opened, when every end was looked into: take up what was to go on.

        Where no run had ended, the machine came to its end before the next run had begun: that counts as an end too.
        """
        if self._taken_up:
            return
        self._taken_up = True
        state = self._state
        if state is None or state.given_up or self._due is not None or self._run is not None:
            return
        if state.next_sheet is None or state.ends + 1 >= state.sheet.crash.most:
            self._give_up(
                replace(state, ends=state.ends + 1), f"that was end {state.ends + 1} of {state.sheet.crash.most}"
            )
            return
        self._happened = self._happened or "The machine ended before the next run had begun"
        self._plan(replace(state, ends=state.ends + 1), COUNTDOWN_S)

    def follow(self, at: float) -> None:
        """Start what is due, and take up a run that has come to its end in order."""
        run = self._context.conductor.run
        if run is not None and not run.active and run.number == self._run and run.number not in self._settled:
            self._settled.add(run.number)
            self._run_has_ended(run.ending)
        self._beside.follow()
        if self._due is not None and at >= self._due and not self._looking:
            self._looking = True
            self._beside.do("looking for a file that says stop", lambda: partial(self._begin, is_there(self.stop_file)))

    def _begin(self, says_stop: bool) -> None:
        """Start what was due, unless something has stopped it."""
        self._looking = False
        state = self._state
        if self._due is None or state is None or state.next_sheet is None:
            return
        if says_stop:
            self.stop(f"the file {self.stop_file} says stop")
            return
        self._due, self._own_start = None, True
        try:
            self._context.start(state.next_sheet)
        except EnvironmentFault as error:
            self._give_up(state, str(error))

    def _run_has_ended(self, ending: Ending | None) -> None:
        state = self._state
        if state is None or state.given_up or ending is Ending.INTERRUPTED:
            return  # how a sudden end came about is being looked into
        if ending is not Ending.FINISHED:
            self._give_up(state, f"the run was {ending.value if ending is not None else 'ended'}")
            return
        run = self._context.conductor.run
        after = after_clean(state, run.run_at(self._context.system.now()) if run is not None else 0.0)
        if after.next_sheet is not None and not after.given_up:
            self._plan(after, BETWEEN_GROUPS_S)
        else:
            self._give_up(after, after.given_up)

    def next_round(self) -> None:
        """Take the run that begins next as another round of the one that goes on: its ends are counted on."""
        self._own_start = self._state is not None and not self._state.given_up

    def hurry(self) -> bool:
        """Let what is to be started begin with the next tick; return whether something is."""
        if self._due is not None:
            self._due = self._context.system.now()
        return self._due is not None

    def stop(self, why: str) -> None:
        """Start nothing any more by itself."""
        if self._state is not None:
            self._give_up(self._state, why)

    def close(self, shutting_down: bool) -> None:
        """Take away what restarts the program, unless the machine is being shut down in the middle of it."""
        run = self._context.conductor.run
        goes_on = shutting_down and (self.pending or (run is not None and run.ending is Ending.INTERRUPTED))
        if self._state is not None and not self._state.given_up and not goes_on:
            self._leave("the program was closed")
        self._beside.settle(_CLOSE_S)

    # ----

    def _plan(self, state: Continuation, pause_s: float) -> None:
        self._keep(state)
        self._due = self._context.system.now() + pause_s
        self._record.note(f"Goes on by itself in {pause_s:.0f} s", next_words(state))
        self._record.publish(self.event())

    def _give_up(self, state: Continuation, why: str) -> None:
        found = state.isolation
        self._keep(replace(state, given_up=why, next_sheet=None))
        self._due, self._own_start = None, False
        if found is not None and found.named:
            tried = "; ".join(
                f"{each.group.words}: {'ended' if each.ended else 'clean'} after {each.seconds:.0f} s"
                for each in found.tried
            )
            title = f"The machine ends under {found.named}"
            self._record.note(title, tried, Severity.WARNING, "E-907")
        elif why:
            self._record.note("Nothing goes on by itself any more", why)
        self._leave(why)
        self._record.publish(self.event())

    def _leave(self, why: str) -> None:
        """Take away what restarts the program, and forget the state in the file."""
        self._record.writer.set_going_on(None)
        if self._state is not None and not self._state.given_up and why:
            self._state = replace(self._state, given_up=why)
        restart = self._context.restart
        if restart is not None:
            self._beside.do("taking away what starts the program", lambda: partial(self._left, restart.remove()))

    def _left(self, said: str) -> None:
        if said:
            self._record.note("The program is not started by itself any more", said)

    def _keep(self, state: Continuation) -> None:
        self._state = state
        self._record.writer.set_going_on(state)

    def _chance(self, group: Group) -> float:
        """Return how much of what is suspected a group strains."""
        verdict = self._context.verdict()
        if verdict is None:
            return 0.0
        total = 0.0
        modes = {mode.name: mode for mode in self._context.knowledge.modes}
        for suspect in verdict.suspects:
            mode = modes.get(suspect.mode)
            for block in group.blocks if mode is not None else ():
                misses = suspect.core is not None and block.cores and suspect.core not in block.cores
                total += 0.0 if misses or mode is None else suspect.probability * mode.loads.get(block.load, 0.0)
        return total


def _as_tried(tried: Tried) -> TriedGroup:
    cores = {core for block in tried.group.blocks for core in block.cores}
    return tried.group.words, tried.ended, tried.seconds, tuple(sorted(cores))


def reached_by(sheet: RunSheet, running: dict[int, float], begun: set[int]) -> Reached:
    """Return how far a run had come: `running` are the blocks broken off by their place among the steps, in seconds.

    `begun` are the steps that had begun; what stands before the last of them was carried out.
    """
    items = sorted(sheet.items, key=lambda item: (item.start_s, isinstance(item, Block)))
    broken = tuple(
        (item, running[index]) for index, item in enumerate(items) if index in running and isinstance(item, Block)
    )
    last = max((*begun, *running), default=-1)
    return Reached(broken, tuple(items[last + 1 :]))
