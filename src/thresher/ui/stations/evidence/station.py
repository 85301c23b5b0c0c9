"""The Evidence station: signatures over time and in a list, and the decode pane for anything from outside."""

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from thresher.decoding.recognise import Decoded, Tables
from thresher.events.machine_checks.registers import vendor_of
from thresher.model.checks import CheckOutcome
from thresher.model.findings import Finding
from thresher.model.parts import PartKind
from thresher.ui.form import Panel, form_style
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.evidence.add_dialog import AddEvidenceDialog
from thresher.ui.stations.evidence.checks_list import ChecksList
from thresher.ui.stations.evidence.decode_pane import DecodePane
from thresher.ui.stations.evidence.entries import Entry, JobGroups, entries_of_decoded, entries_of_groups
from thresher.ui.stations.evidence.signature_list import SignatureList
from thresher.ui.stations.evidence.system_logs_dialog import SystemLogsDialog
from thresher.ui.stations.evidence.timeline import SignatureTimeline

_JOB, _BEFORE, _DECODED, _CHECKS = range(4)
_DECODE_WIDTH = 440
_TABS = ((_JOB, "This job"), (_BEFORE, "Before the bench opened"), (_DECODED, "Decoded"), (_CHECKS, "Checks"))
_TIPS = (
    "What happened in this job",
    "What log, counters and firmware recorded before the bench was opened",
    "What was typed, pasted or dropped last",
    "What the component checks said of each part",
)


class EvidenceStation(QWidget):
    """The whole station. `evidence_wanted` carries the command that adds evidence."""

    evidence_wanted = pyqtSignal(object)
    note_wanted = pyqtSignal(str)
    undo_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, tables: Tables, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._state, self._look, self._tables = state, look, tables
        self._job = JobGroups(state, tables)
        self._lists: dict[int, list[Entry]] = {_JOB: [], _BEFORE: [], _DECODED: [], _CHECKS: []}
        self._decoded: Decoded | None = None
        self._decoded_name = ""
        self._page = _JOB
        self.setAcceptDrops(True)
        self.timeline = SignatureTimeline(state, look, self)
        self.timeline.setFixedHeight(232)
        self.pane = DecodePane(look, tables, self)
        self.pane.setFixedWidth(_DECODE_WIDTH)
        signatures = self._make_signatures(look)
        left = QVBoxLayout()
        left.setSpacing(8)
        left.addWidget(self.timeline)
        left.addWidget(signatures, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(8)
        row.addLayout(left, 1)
        row.addWidget(self.pane)
        self.filter.textChanged.connect(self._refill)
        selection = self.list.selectionModel()
        if selection is not None:
            selection.currentChanged.connect(lambda *_: self._show_chosen())
        self.timeline.picked.connect(self._pick)
        self.pane.decoded.connect(self.show_decoded)
        self.pane.add_wanted.connect(self.ask_add)
        self.pane.note_wanted.connect(self.note_wanted)
        self.undo.clicked.connect(self.undo_wanted)
        state.refreshed.connect(self._on_refreshed)
        state.machine_changed.connect(self._on_machine)
        look.changed.connect(self._restyle)
        self._restyle()

    def _make_signatures(self, look: Look) -> Panel:
        """Return the panel with the filter, the list and the sources."""
        signatures = Panel("Signatures", look, self)
        signatures.aside = "what, where, how often"
        self.filter = QLineEdit(signatures)
        self.filter.setObjectName("evidence_filter")
        self.filter.setAccessibleName("Filter the signatures")
        self.filter.setPlaceholderText("filter: a code, a place, a part, a load")
        self.filter.setClearButtonEnabled(True)
        self.undo = QPushButton("Undo last evidence", signatures)
        self.undo.setObjectName("undo_evidence")
        self.undo.setAccessibleName("Undo last evidence")
        self.undo.setToolTip("Remove the evidence that was added last (Ctrl+Z)")
        self.undo.hide()
        self.list = SignatureList(look, signatures)
        head = self._make_tabs(signatures)
        signatures.column.addLayout(head)
        self.system_logs = QPushButton("Read system logs…", signatures)
        self.system_logs.setObjectName("read_system_logs")
        self.system_logs.setAccessibleName("Read logs of the installed system")
        self.system_logs.setToolTip(
            "Event logs, crash dumps and journals of the system on this machine's drives (Ctrl+Shift+D)"
        )
        self.system_logs.clicked.connect(lambda _checked=False: self.ask_system_logs())
        search = QHBoxLayout()
        search.setSpacing(6)
        search.addWidget(self.filter, 1)
        search.addWidget(self.system_logs)
        signatures.column.addLayout(search)
        signatures.column.addWidget(self.list, 1)
        self.checks = ChecksList(self._state, look, signatures)
        self.checks.hide()
        signatures.column.addWidget(self.checks, 1)
        signatures.column.addWidget(self.undo)
        self.sources = QLabel("", signatures)
        self.sources.setObjectName("sources")
        self.sources.setAccessibleName("Where errors are read from")
        signatures.column.addWidget(self.sources)
        return signatures

    def _make_tabs(self, parent: QWidget) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)
        self.tabs = QButtonGroup(self)
        for number, text in _TABS:
            button = QPushButton(text, parent)
            button.setCheckable(True)
            button.setChecked(number == _JOB)
            button.setObjectName(f"evidence_{text.lower().replace(' ', '_')}")
            button.setAccessibleName(f"Show: {text}")
            button.setToolTip(_TIPS[number])
            self.tabs.addButton(button, number)
            row.addWidget(button)
        row.addStretch(1)
        self.tabs.idClicked.connect(self.show_page)
        return row

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))

    # ---- what is listed

    def _on_machine(self) -> None:
        """Another machine or job: start over."""
        snapshot = self._state.snapshot
        self._job = JobGroups(self._state, self._tables)
        self._lists[_JOB] = []
        processor = next(iter(snapshot.machine.parts_of(PartKind.PROCESSOR)), None) if snapshot else None
        if snapshot is not None and processor is not None:
            wording = " ".join(fact.value for fact in processor.facts)
            self.pane.choose_vendor(vendor_of(wording))
        self._name_sources()
        earlier = list(snapshot.earlier) if snapshot else []
        self._lists[_BEFORE] = entries_of_groups(earlier, self.pane.vendor, self._tables, foreign=True)
        self.list.delegate.wall_offset = snapshot.wall_offset if snapshot else None
        self._on_refreshed()

    def _on_refreshed(self) -> None:
        if self._job.update():
            self._lists[_JOB] = self._entries_of_job()
            if self._page == _JOB:
                self._refill()
        self._name_tabs()
        self.undo.setVisible(any(each.origin for each in self._state.findings))

    def _entries_of_job(self) -> list[Entry]:
        """Return the entries of the job's groups; one that has not grown is not decoded again."""
        known = {each.group.signature: each for each in self._lists[_JOB] if each.group is not None}
        entries = []
        for group in self._job.groups():
            before = known.get(group.signature)
            if before is not None and before.group is not None and before.group.count == group.count:
                entries.append(before)
            else:
                entries += entries_of_groups([group], self.pane.vendor, self._tables, foreign=False)
        return entries

    def _name_sources(self) -> None:
        """Say in a line which sources are followed; each in full, with what cannot be read, in the tooltip."""
        sources = self._state.snapshot.sources if self._state.snapshot else ()
        read, unread = ([each.name for each in sources if each.reads is wanted] for wanted in (True, False))
        words = f"read: {', '.join(read)}" if read else ""
        self.sources.setText(f"{words}{'; not: ' + ', '.join(unread) if unread else ''}")
        self.sources.setToolTip("\n".join(f"{each.name}: {each.words}" for each in sources))
        self.sources.setVisible(bool(sources))

    def _name_tabs(self) -> None:
        names = {_JOB: "This job", _BEFORE: "Before the bench opened", _DECODED: self._decoded_name or "Decoded"}
        for page, name in names.items():
            button, count = self.tabs.button(page), len(self._lists[page])
            text = f"{name[:24]} ({count})" if count else name
            if button is not None and button.text() != text:
                button.setText(text)
        mine = [each for each in self._state.checks if not each.job]
        checks, failed = self.tabs.button(_CHECKS), sum(each.outcome is CheckOutcome.FAIL for each in mine)
        if checks is not None:
            checks.setText(f"Checks ({len(mine)}, {failed} failed)" if failed else "Checks")

    def show_page(self, page: int) -> None:
        """Show the job's signatures (0), those from before (1), what was decoded (2) or the checks (3)."""
        button = self.tabs.button(page)
        if button is not None:
            button.setChecked(True)
        self._page = page
        self.checks.setVisible(page == _CHECKS)
        self.list.setVisible(page != _CHECKS)
        self.filter.setVisible(page != _CHECKS)
        self._refill()
        if self.list.entries.rowCount():
            self._pick(0)
        else:
            self.pane.show_entry(None)

    def _refill(self) -> None:
        """Show what passes the filter, with the same signature chosen as before."""
        chosen = self.list.chosen()
        words = self.filter.text()
        listed = self._lists[_JOB if self._page == _CHECKS else self._page]  # the times stay those of the job
        shown = [each for each in listed if each.holds(words)]
        self.list.entries.set_entries(shown)
        again = next((n for n, each in enumerate(shown) if chosen is not None and _same(each, chosen)), -1)
        if again >= 0:
            self.list.setCurrentIndex(self.list.entries.index(again))
        self._show_chosen()

    def _pick(self, row: int) -> None:
        self.list.setCurrentIndex(self.list.entries.index(row))
        self.list.scrollTo(self.list.currentIndex())

    def _show_chosen(self) -> None:
        entry = self.list.chosen()
        elsewhere = self._page == _DECODED
        self.timeline.set_entries(self.list.entries.entries(), self.list.currentIndex().row(), elsewhere)
        if entry is not None and entry != self.pane.entry:
            self.pane.show_entry(entry)

    def show_decoded(self, decoded: Decoded, name: str) -> None:
        """List what was decoded and show its first thing."""
        self._decoded, self._decoded_name = decoded, name
        self._lists[_DECODED] = entries_of_decoded(decoded, self._tables)
        self.filter.clear()
        self._name_tabs()
        self.show_page(_DECODED)

    # ---- evidence

    def ask_add(self, entry: Entry) -> AddEvidenceDialog:
        """Ask when it was and what was installed, then have it added."""
        log = self._decoded.log if self._decoded is not None and self._page == _DECODED else None
        when, hours = None, 0.0
        origin = self._decoded_name if self._page == _DECODED else "the log from before"
        if log is not None and log.first is not None and log.last is not None:
            hours = (log.last - log.first) / 3600.0
            when = log.last if log.by_wall else None
        if entry.group is not None and self._page == _BEFORE and self._state.snapshot is not None:
            when = entry.group.last + self._state.snapshot.wall_offset
            hours = (self._state.origin if entry.group.last < self._state.origin else entry.group.last) / 3600.0
        findings: tuple[Finding, ...] = entry.thing.findings
        dialog = AddEvidenceDialog(findings, origin, when, hours, self._look.scheme, self)
        dialog.accepted.connect(lambda: self.evidence_wanted.emit(dialog.answer(findings)))
        dialog.open()
        return dialog

    def ask_system_logs(self) -> SystemLogsDialog:
        """List the drives of this machine, and read the logs on them after consent."""
        snapshot = self._state.snapshot
        model = snapshot.job.get("model", "") if snapshot is not None else ""
        dialog = SystemLogsDialog(self._look, self.pane.vendor, model, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.evidence_wanted.connect(self.evidence_wanted)
        dialog.note_wanted.connect(self.note_wanted)
        dialog.open()
        dialog.look_for_drives()
        return dialog

    # ---- dropping

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take files and texts."""
        mime = event.mimeData() if event is not None else None
        if event is not None and mime is not None and (mime.hasUrls() or mime.hasText()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Decode what was dropped."""
        mime = event.mimeData() if event is not None else None
        if event is not None and mime is not None:
            self.pane.drop(mime.urls(), mime.text())
            event.acceptProposedAction()


def _same(one: Entry, other: Entry) -> bool:
    if one.group is not None and other.group is not None:
        return one.group.signature == other.group.signature and one.foreign == other.foreign
    return one.thing.title == other.thing.title and one.thing.raw == other.thing.raw
