"""The run sheet that is being edited in this window: draft, selection, undo, and what the engine says about it.

The engine keeps the draft with the job and checks it after every edit; nothing is carried out before Start.
"""

from collections.abc import Callable, Iterable
from dataclasses import replace

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from thresher.compose import draft as drafts
from thresher.compose.draft import Draft, History, Placed, draft_of
from thresher.compose.ready_made import Pick, ReadyMade, Wish
from thresher.model.sheet import CrashPlan, GateKind, RunSheet, SheetItem, SheetLimits
from thresher.protocol.answers import SheetCheck, SheetFile
from thresher.protocol.status import PlanItem
from thresher.ui.state import BenchState

_KEEP_MS = 250
"""How long editing must pause before the draft is sent to be kept and checked."""


class SheetEditor(QObject):
    """Holds the draft of one bench.

    `changed` comes with every edit, selection, check or change between composing and following a run; `edited` carries
    the sheet that is to be kept and checked.
    """

    changed = pyqtSignal()
    edited = pyqtSignal(object)

    def __init__(self, state: BenchState, parent: QObject | None = None) -> None:
        """Begin with an empty draft."""
        super().__init__(parent)
        self._state = state
        self.history = History(Draft())
        self.chosen: frozenset[int] = frozenset()
        self.clipboard: tuple[SheetItem, ...] = ()
        self.check: SheetCheck | None = None
        self._faults: dict[int, str] = {}
        self.file: SheetFile | None = None
        self.next_s: float | None = None
        self.step: int | None = None
        self._own = False
        self._wanted = self._ran = False
        self._seen: RunSheet | None = None
        self._job_file = ""
        self._was_composing = True
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_KEEP_MS)
        self._timer.timeout.connect(self._keep)
        state.machine_changed.connect(self._take_snapshot)
        state.refreshed.connect(self._follow)

    # ---- what there is

    @property
    def draft(self) -> Draft:
        """The draft as it is now."""
        return self.history.now

    @property
    def selection(self) -> tuple[Placed, ...]:
        """The selected items, in the order of the sheet."""
        return self.draft.chosen(self.chosen)

    @property
    def composing(self) -> bool:
        """Whether the sheet is edited: before a run, and after one when the next is being composed."""
        snapshot = self._state.snapshot
        if snapshot is None or snapshot.kind == "stored job" or self._state.active:
            return False
        return self._state.run.run is None or self._wanted

    @property
    def own(self) -> bool:
        """Whether the draft is one that was begun here, not a sheet that was opened or proposed."""
        return self._own

    @property
    def saved(self) -> bool:
        """Whether the draft is as its file has it."""
        return self.file is not None and self.file.sheet == self.draft.sheet()

    def compose(self, wanted: bool = True) -> None:
        """Compose the next run from the last one's sheet, or go back to the last one's record."""
        self._wanted, self._ran = wanted, False
        self._mode_changed()

    def pick_step(self, step: int | None) -> None:
        """Pick the step of a run in progress that a change is about, None for the one that runs."""
        self.step = step
        self.changed.emit()

    @property
    def picked_step(self) -> PlanItem | None:
        """The step of the run in progress that was picked, None when there is none or it is over."""
        plan = self._state.run.plan if self._state.active else ()
        return next((item for item in plan if item.step == self.step and not item.state.over), None)

    # ---- following the engine

    def _take_snapshot(self) -> None:
        snapshot = self._state.snapshot
        if snapshot is None:
            return
        if snapshot.job_file == self._job_file and self.history.past:
            self._timer.start()  # the engine was started again: what is edited here is newer than what it has
            return
        self._job_file = snapshot.job_file
        self._seen = snapshot.sheet
        self.file, self.check, self.chosen, self.next_s = None, None, frozenset(), None
        self._faults = {}
        first = draft_of(snapshot.sheet) if snapshot.sheet is not None else Draft()
        self._own = False
        self.history = History(first)
        if snapshot.draft is not None and snapshot.draft != snapshot.sheet:
            self._own = True
            self.history = self.history.then(draft_of(snapshot.draft))
        self._timer.start()
        self._mode_changed()

    def _follow(self) -> None:
        """Take over a sheet that came onto the bench from elsewhere, and leave composing when a run begins."""
        if self._state.active:
            self._wanted, self._ran = False, True
        else:
            self.step = None
        sheet = self._state.sheet
        if sheet is not None and sheet is not self._seen:
            self._seen = sheet
            if sheet != self.draft.sheet():
                if self.history.past:
                    self.load(sheet)
                else:
                    self.history, self.file, self._own = History(draft_of(sheet)), None, False
                    self._after(())
        self._mode_changed()

    def _mode_changed(self) -> None:
        if self.composing != self._was_composing:
            self._was_composing = self.composing
            self.changed.emit()

    def _keep(self) -> None:
        if self._state.snapshot is not None and self._state.snapshot.kind != "stored job":
            self.edited.emit(self.draft.sheet())

    def take_check(self, sheet: RunSheet, check: SheetCheck) -> None:
        """Take what the engine says about a sheet, unless it was edited meanwhile."""
        if sheet == self.draft.sheet():
            self.check = check
            self._faults = self._faults_by_number(check)
            self.changed.emit()

    # ---- editing

    def do(self, draft: Draft, chosen: Iterable[int] | None = None) -> None:
        """Carry out an edit; it can be undone."""
        self.history = self.history.then(draft)
        self._after(chosen)

    def _after(self, chosen: Iterable[int] | None = None) -> None:
        there = {each.number for each in self.draft.items}
        self.chosen = frozenset(self.chosen if chosen is None else chosen) & there
        self.check, self._faults = None, {}
        self._timer.start()
        self.changed.emit()

    def undo(self) -> None:
        """Undo the last edit."""
        self.history = self.history.undo()
        self._after()

    def redo(self) -> None:
        """Carry out again what was undone last."""
        self.history = self.history.redo()
        self._after()

    def select(self, numbers: Iterable[int]) -> None:
        """Select items by number."""
        there = {each.number for each in self.draft.items}
        chosen = frozenset(numbers) & there
        if chosen != self.chosen:
            self.chosen = chosen
            self.changed.emit()

    def select_next(self, step: int) -> None:
        """Select the item after or before the selected one."""
        order = [each.number for each in self.draft.items]
        if not order:
            return
        now = [place for place, number in enumerate(order) if number in self.chosen]
        at = (now[-1] + step) % len(order) if now else (0 if step > 0 else len(order) - 1)
        self.select((order[at],))

    def load(self, sheet: RunSheet, file: SheetFile | None = None) -> None:
        """Begin with another sheet; undo brings back the one before."""
        self.file, self._own, self.next_s, self._ran = file, False, None, False
        self._wanted = True
        opened = replace(draft_of(sheet), next_number=self.draft.next_number + len(sheet.items))
        self.do(opened, ())

    def put(self, items: tuple[SheetItem, ...], limits: SheetLimits | None = None) -> None:
        """Add what was put together from the picked parts, as a group: at the chosen time, else behind the rest.

        On a sheet that was opened or proposed and not changed it begins one of its own.
        """
        if not items:
            return
        begun = self._begun()
        self._wanted = True
        at = self.next_s if self.next_s is not None else begun.length_s
        begun, added = drafts.paste(begun, items, at)
        self.next_s = None
        self.do(replace(begun, limits=limits or begun.limits), added)

    def make(self, shape: ReadyMade, pick: Pick, wish: Wish, cores: tuple[int, ...], limits: SheetLimits) -> None:
        """Begin a sheet of a ready-made shape of the picked parts."""
        title = f"{shape.title}: {', '.join(kind.value for kind in pick.kinds)}"
        if shape.first_fault_ends:
            limits = replace(limits, stop_after_faults=1)
        self.file, self._own, self.next_s, self._wanted, self._ran = None, True, None, True, False
        empty = Draft(title, limits=limits, next_number=self.draft.next_number)
        new, added = drafts.put(empty, shape.make(pick, wish, cores))
        self.do(new, added)

    def _begun(self) -> Draft:
        """Return the draft that something is added to: an empty one of its own where none was begun since a run."""
        if not self._ran and (self._own or self.file is not None or self.history.past):
            return self.draft
        self._own, self._ran, self.file = True, False, None
        return Draft(next_number=self.draft.next_number)

    def remove(self) -> None:
        """Delete what is selected."""
        self.do(drafts.remove(self.draft, self.chosen), ())

    def copy(self) -> None:
        """Keep what is selected for pasting."""
        self.clipboard = tuple(each.item for each in self.selection)

    def cut(self) -> None:
        """Copy and delete what is selected."""
        self.copy()
        self.remove()

    def paste(self, at_s: float | None = None) -> None:
        """Paste what was copied, at a time or behind the rest."""
        at = at_s if at_s is not None else self.next_s if self.next_s is not None else self.draft.length_s
        self.do(*drafts.paste(self.draft, self.clipboard, at))

    def duplicate(self, times: int = 1) -> None:
        """Put copies of what is selected behind it."""
        new, added = drafts.copies(self.draft, self.chosen, times)
        self.do(new, added)

    def split(self, at_s: float | None = None) -> None:
        """Cut the selected block in two, in its middle unless a time is given."""
        for placed in self.selection[:1]:
            at = at_s if at_s is not None else float(round((placed.start_s + placed.end_s) / 2))
            new, parts = drafts.split(self.draft, placed.number, at)
            self.do(new, parts)

    def put_gate(self, kind: GateKind, at_s: float | None = None) -> None:
        """Put a gate in: at a time, before what is selected, or behind the rest."""
        starts = [each.start_s for each in self.selection]
        at = at_s if at_s is not None else min(starts) if starts else self.draft.length_s
        self.do(*drafts.put_gate(self.draft, kind, at))

    def change(self, edit: Callable[[SheetItem], SheetItem]) -> None:
        """Change each selected item."""
        self.do(drafts.change(self.draft, self.chosen, edit))

    def set_limits(self, limits: SheetLimits) -> None:
        """Set what stops the run."""
        self.do(replace(self.draft, limits=limits))

    def set_crash(self, crash: CrashPlan) -> None:
        """Set what happens when the machine comes to a sudden end."""
        if crash != self.draft.crash:
            self.do(replace(self.draft, crash=crash))

    def set_repeat(self, repeat: bool) -> None:
        """Let the run start again at its end, until somebody stops it, or not."""
        if repeat != self.draft.repeat:
            self.do(replace(self.draft, repeat=repeat))

    def set_title(self, title: str) -> None:
        """Name the sheet."""
        self.do(replace(self.draft, title=title))

    def take_file(self, file: SheetFile) -> None:
        """Take over how the sheet was saved."""
        self.file = file
        if file.sheet.title != self.draft.title:
            self.history = self.history.then(replace(self.draft, title=file.sheet.title))
        self.changed.emit()

    # ---- faults

    def fault_of(self, placed: Placed) -> str:
        """Return what is wrong with an item, empty where nothing is."""
        return self._faults.get(placed.number, "")

    def _faults_by_number(self, check: SheetCheck) -> dict[int, str]:
        blocks, gates = self.draft.blocks, self.draft.gates
        found: dict[int, list[str]] = {}
        for fault in check.faults:
            place, items = (fault.block, blocks) if fault.block is not None else (fault.gate, gates)
            if place is not None:
                found.setdefault(items[place].number, []).append(fault.message)
        return {number: "; ".join(messages) for number, messages in found.items()}

    @property
    def faults(self) -> tuple[str, ...]:
        """Everything that is wrong with the draft, in words with the place."""
        if self.check is None:
            return ()
        sheet = self.draft.sheet()
        return tuple(f"{fault.place(sheet)}: {fault.message}" for fault in self.check.faults)
