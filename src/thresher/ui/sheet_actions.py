"""What the window does with run sheets: drafts, saving, rounds of checks, the long part of one, the proof run."""

from collections.abc import Callable
from dataclasses import replace

from PyQt6.QtCore import QObject

from thresher.compose.rounds import SHORT_ROUND, long_part, results_sentence
from thresher.model.checks import CheckOutcome, Round, together
from thresher.model.sheet import RunSheet, clock_text
from thresher.protocol.answers import SheetFile
from thresher.protocol.commands import KeepDraft, OpenSheet, PutDraft, PutRound, SaveSheet
from thresher.ui.requests import EngineRequests, Screen
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.station import BenchStation

_BUSY = "A run is in progress: stop it first, or wait for its end."


class SheetActions(QObject):
    """Puts sheets on the bench and keeps them. `go_to_bench` shows the Bench once a sheet is there."""

    def __init__(
        self,
        state: BenchState,
        requests: EngineRequests,
        bench: BenchStation,
        screen: Screen,
        go_to_bench: Callable[[], None],
        parent: QObject,
    ) -> None:
        """Follow the sheet that is edited on the Bench."""
        super().__init__(parent)
        self._state, self._requests, self._bench = state, requests, bench
        self._screen, self._go_to_bench = screen, go_to_bench
        self._offered: int | None = None
        bench.editor.edited.connect(self._keep_draft)
        bench.bar.save_wanted.connect(self.save)
        bench.picker.check_wanted.connect(self.put_round)
        bench.sheets.save_wanted.connect(lambda title: self.save_as(title, ""))
        bench.sheets.open_wanted.connect(lambda name: requests.send(OpenSheet(name), self._load))
        state.refreshed.connect(self._offer_long_part)

    def put_round(self, thorough: bool = False) -> None:
        """Put the checks of the picked parts on the bench, of every part where none is picked."""
        kinds = self._bench.map.picks.pick().kinds
        self._put(PutRound(Round.THOROUGH if thorough else Round.SHORT, kinds))

    def put_proof(self, sheet: RunSheet) -> None:
        """Put the sheet of a proof run on the bench."""
        self._put(PutDraft(sheet))

    def _put(self, command: PutRound | PutDraft) -> None:
        if self._state.active:
            self._screen.say(_BUSY)
            return
        self._requests.send(command, lambda _status: self._go_to_bench())

    def _offer_long_part(self) -> None:
        """After a short round without a failure, ask for the part that takes hours, with its time."""
        run, snapshot = self._state.run, self._state.snapshot
        ended = run.state == "ended" and run.ending == "finished" and run.run is not None
        if not ended or run.run == self._offered or snapshot is None:
            return
        self._offered = run.run
        results = [each for each in self._state.checks if each.run == run.run]
        plan = long_part(snapshot.machine)
        if not run.title.startswith(SHORT_ROUND) or together(results) is CheckOutcome.FAIL or not plan.checks:
            return
        names = tuple(check.name for check in plan.checks)
        self._screen.ask(
            f"{results_sentence(results).capitalize()}. The long part ({', '.join(names)}) takes about"
            f" {clock_text(plan.seconds)}.",
            "Put the long part on the bench",
            lambda: self._requests.send(PutRound(checks=names)),
        )

    def _keep_draft(self, sheet: RunSheet) -> None:
        editor = self._bench.editor
        self._requests.send_if_connected(KeepDraft(sheet), lambda check: editor.take_check(sheet, check))

    def _load(self, file: SheetFile) -> None:
        self._bench.editor.load(file.sheet, file)

    def save(self) -> None:
        """Save the draft where it came from, or ask for its name."""
        file = self._bench.editor.file
        if file is not None and file.own:
            self.save_as(self._bench.editor.draft.title, file.name)
            return
        self._bench.right.show_sheets()
        self._bench.sheets.ask_save(self._bench.editor.draft.title)

    def save_as(self, title: str, name: str) -> None:
        """Save the draft under a title; `name` is its file among the shop's, empty for a new one."""
        editor = self._bench.editor
        known = editor.file.digest if editor.file is not None and name else ""
        self._requests.send(SaveSheet(replace(editor.draft.sheet(), title=title), name, known), editor.take_file)
