"""The window's connection to an engine: a local socket in Qt's event loop, nothing that waits."""

import logging
import os
import socket
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QDeadlineTimer, QObject, QTimer, pyqtSignal
from PyQt6.QtNetwork import QLocalSocket

from thresher.protocol.answers import HistoryRows, Snapshot
from thresher.protocol.commands import Command, GetHistory, GetSnapshot, Subscribe, T
from thresher.protocol.peer import is_trusted, peer_user
from thresher.protocol.wire import INCOMING, NOTICES, Incoming, Notice, decode_answer, encode_command

_LOG = logging.getLogger(__name__)
_RETRY_MS = 50
_FINISH_MS = 500


class EngineLink(QObject):
    """Connects, asks for a snapshot and the history, subscribes, and passes on what comes.

    Signals: `opened` with the snapshot, `rows_came` with past ticks, `event_came` with an engine event,
    `lost` when a connection that stood has broken, `refused` with the engine's message about a request.
    """

    opened = pyqtSignal(object)
    rows_came = pyqtSignal(object)
    event_came = pyqtSignal(object)
    lost = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self, path: Path, parent: QObject | None = None) -> None:
        """Prepare; nothing is connected before `open`."""
        super().__init__(parent)
        self._path = path
        self._socket = QLocalSocket(self)
        self._socket.connected.connect(self._on_connected)
        self._socket.readyRead.connect(self._on_ready_read)
        self._socket.disconnected.connect(self._on_disconnected)
        self._socket.errorOccurred.connect(self._on_error)
        self._retry = QTimer(self)
        self._retry.setSingleShot(True)
        self._retry.timeout.connect(self._connect)
        self._waiting: dict[int, Callable[[Incoming], None]] = {}
        self._unanswered: set[int] = set()
        self._next_id = 0
        self._early: list[Notice] | None = []
        self._standing = False
        self._wanted = False

    @property
    def standing(self) -> bool:
        """Whether an engine answers."""
        return self._standing

    def open(self) -> None:
        """Connect, trying again until an engine answers."""
        self._wanted = True
        self._connect()

    def close(self) -> None:
        """Disconnect permanently."""
        self._wanted = self._standing = False
        self._retry.stop()
        self._socket.abort()

    def finish(self) -> None:
        """Send what waits, wait until the engine has taken it, at most half a second, and disconnect permanently.

        An engine that writes to a window that has gone loses the connection with what was still to be read on it, so
        that the last request of a window has to be answered before it goes.
        """
        self._wanted = False
        self._retry.stop()
        deadline = QDeadlineTimer(_FINISH_MS)
        while self._unanswered and not deadline.hasExpired():
            if not self._socket.waitForReadyRead(max(1, deadline.remainingTime())):
                break
        self._socket.disconnectFromServer()

    def call(self, command: Command[T], done: Callable[[T], None] | None = None) -> None:
        """Send a command; `done` gets its answer, an error goes to `refused`."""
        if not self._standing:
            self.refused.emit("The engine does not answer; this was not carried out.")
            return
        self._next_id += 1
        if done is not None:
            self._waiting[self._next_id] = lambda incoming: done(decode_answer(command, incoming.result))
        self._unanswered.add(self._next_id)
        self._socket.write(encode_command(command, self._next_id))

    def _connect(self) -> None:
        if self._wanted and self._socket.state() is QLocalSocket.LocalSocketState.UnconnectedState:
            self._socket.connectToServer(str(self._path))

    def _on_connected(self) -> None:
        with socket.socket(fileno=os.dup(int(self._socket.socketDescriptor()))) as peer:
            user = peer_user(peer)
        if not is_trusted(user):
            _LOG.error("a program of user %d answers at %s; it is not used", user, self._path)
            self.close()
            self.refused.emit(f"Another user's program answers at {self._path}. Remove it and start again.")
            return
        self._standing = True
        self._waiting.clear()
        self._unanswered.clear()
        self._early = []
        self.call(Subscribe())
        self.call(GetSnapshot(), self._on_snapshot)

    def _on_snapshot(self, snapshot: Snapshot) -> None:
        self.opened.emit(snapshot)
        # events that came while the snapshot was on its way: those that it does not hold already
        early, self._early = self._early, None
        for each in early or ():
            if each.number > snapshot.last_event:
                self.event_came.emit(each.event)
        self._ask_history(-1e18)

    def _ask_history(self, after: float) -> None:
        def on_rows(rows: HistoryRows) -> None:
            self.rows_came.emit(rows)
            if rows.more:
                self._ask_history(rows.at[-1])

        self.call(GetHistory(after), on_rows)

    def _on_ready_read(self) -> None:
        while self._socket.canReadLine():
            self._on_line(self._socket.readLine().data())

    def _on_line(self, line: bytes) -> None:
        incoming = INCOMING.decode(line)
        if incoming.method:
            came = NOTICES.decode(incoming.params)
            if self._early is not None:
                self._early.append(came)
            else:
                self.event_came.emit(came.event)
            return
        if isinstance(incoming.id, int):
            self._unanswered.discard(incoming.id)
        done = self._waiting.pop(incoming.id, None) if isinstance(incoming.id, int) else None
        if incoming.error is not None:
            self.refused.emit(incoming.error.message)
        elif done is not None:
            done(incoming)

    def _on_disconnected(self) -> None:
        if self._standing:
            self._standing = False
            if self._wanted:
                _LOG.warning("the connection to the engine is lost")
                self.lost.emit()
        self._again()

    def _on_error(self, _error: QLocalSocket.LocalSocketError) -> None:
        self._again()

    def _again(self) -> None:
        if self._wanted and not self._retry.isActive():
            self._retry.start(_RETRY_MS)
