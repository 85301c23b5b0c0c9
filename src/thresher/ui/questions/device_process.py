"""A process that has a sound device or a camera for a question, read line by line."""

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QCoreApplication, QObject, QProcess, QTimer

_KILL_MS = 400


class DeviceProcess(QObject):
    """Starts at once; `line` gets each line of its output, `ended` is called when it ends by itself."""

    def __init__(
        self, command: Sequence[str], line: Callable[[bytes], None], ended: Callable[[], None], parent: QObject
    ) -> None:
        """Start it."""
        super().__init__(parent)
        self._line, self._ended = line, ended
        self._let_go = False
        process = self._process = QProcess(self)
        process.setStandardErrorFile(QProcess.nullDevice())
        process.readyReadStandardOutput.connect(self._read)
        process.finished.connect(self._finished)
        process.errorOccurred.connect(self._finished)
        process.start(command[0], list(command[1:]))

    def _read(self) -> None:
        while not self._let_go and self._process.canReadLine():
            self._line(self._process.readLine().data())

    def _finished(self) -> None:
        self._read()
        if not self._let_go:
            self._let_go = True
            self._ended()

    def end(self) -> None:
        """Let go of the device without waiting: the process ends with its input, or is killed soon."""
        if self._let_go:
            return
        self._let_go = True
        self.setParent(QCoreApplication.instance())  # it outlives the pane until the process is gone
        process = self._process
        process.finished.connect(self.deleteLater)
        process.closeWriteChannel()
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.timeout.connect(process.kill)
        timer.start(_KILL_MS)
