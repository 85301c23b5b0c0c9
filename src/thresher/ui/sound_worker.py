"""Plays or records one sound of a check through Qt's sound, and writes what it has as JSON lines.

Usage: python -m thresher.ui.sound_worker KIND DEVICE: a kind of `SoundKind`, and the number of the device from 0. It
ends when the sound has ended, or when its input ends. It changes no volume: there is nothing to put back.
"""

import sys
import time
from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
from PyQt6.QtCore import QBuffer, QByteArray, QCoreApplication, QIODevice, QObject, QSocketNotifier, QTimer

from thresher.media.messages import Message, of_loop, of_voice
from thresher.media.recording import HeardLoop, level, measure_loop, measure_voice
from thresher.media.tones import RATE, Samples, loop_sequence, sweep, tone
from thresher.model.questions import SoundKind

_VOICE_S = 5.0
_TONE_S = 2.0
_TONE_HZ = 440.0
_BEFORE_S = 0.4
"""How long the recording of a loop runs before the first sample goes out."""
_AFTER_S = 0.8
"""How late the last tone may come back."""
_DEAF_S = 4.0
_TRIES = 3
"""How often a loop is recorded while something tears it: on a busy computer the stream does not always keep up."""
_TORN_PERCENT = 3.0
_CHANNELS = 2
_BUFFER_BYTES = RATE * _CHANNELS * 4
"""One second: a process that waits for a processor under load does not tear the sound."""


def write(message: Message) -> None:
    """Write one line."""
    print(msgspec.json.encode(message).decode(), flush=True)


def played(kind: SoundKind) -> Samples:
    """Return the samples of a sound that is played."""
    match kind:
        case SoundKind.LEFT:
            return tone(_TONE_HZ, _TONE_S, right=False)
        case SoundKind.RIGHT:
            return tone(_TONE_HZ, _TONE_S, left=False)
        case SoundKind.SWEEP:
            return sweep()
        case SoundKind.LOOP:
            return loop_sequence()
        case SoundKind.VOICE:
            return np.zeros((0, _CHANNELS), np.float32)


def torn(loop: HeardLoop) -> bool:
    """Return whether a tone is clean in places and dirty in others: then something tore the recording."""
    return any(each.distortion_percent <= _TORN_PERCENT < each.worst_percent for each in loop.tones)


class _Worker(QObject):
    """One sound, on one device. `media` is the module of Qt's sound."""

    def __init__(self, media: Any, kind: SoundKind, number: int) -> None:
        super().__init__()
        self._media, self._kind, self._number = media, kind, number
        self._heard = bytearray()
        self._until = self._begun = 0.0
        self._tries = 0
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._look)
        self._again: Callable[[], None] = lambda: None
        self._sink: Any = None
        self._source: Any = None
        self._stream: Any = None
        self._buffer = QBuffer(self)

    def begin(self) -> None:
        """Find the devices and start; says so when there are none."""
        kind = self._kind
        devices = self._media.QMediaDevices
        outputs, inputs = devices.audioOutputs(), devices.audioInputs()
        wanted = inputs if kind.recorded else outputs
        if kind is SoundKind.LOOP and not outputs:
            return self._give_up("this machine has no sound output")
        if not wanted:
            return self._give_up(f"this machine has no sound {'input' if kind.recorded else 'output'}")
        if self._number >= len(wanted):
            return self._give_up(f"there are only {len(wanted)} of them")
        # a loop goes through what the system plays on and records from by itself
        device = devices.defaultAudioInput() if kind is SoundKind.LOOP else wanted[self._number]
        form = self._media.QAudioFormat()
        form.setSampleRate(RATE)
        form.setChannelCount(_CHANNELS)
        form.setSampleFormat(self._media.QAudioFormat.SampleFormat.Float)
        if not device.isFormatSupported(form):
            return self._give_up(f"{device.description()} does not take {RATE} Hz on two channels")
        write(Message(device=device.description(), devices=len(wanted)))
        self._again = lambda: self._start(device, devices.defaultAudioOutput(), form)
        self._again()
        return None

    def _start(self, device: Any, output: Any, form: Any) -> None:
        self._tries += 1
        if self._kind.recorded:
            self._record(device, form)
        if self._kind is SoundKind.LOOP:
            QTimer.singleShot(int(_BEFORE_S * 1000), lambda: self._play(output, form))
        elif not self._kind.recorded:
            self._play(device, form)

    def _give_up(self, reason: str) -> None:
        write(Message(reason=reason))
        QCoreApplication.exit(0)

    def _play(self, device: Any, form: Any) -> None:
        samples = played(self._kind)
        self._buffer.close()
        self._buffer.setData(QByteArray(samples.tobytes()))
        self._buffer.open(QIODevice.OpenModeFlag.ReadOnly)
        self._sink = sink = self._media.QAudioSink(device, form, self)
        sink.stateChanged.connect(self._follow_sink)
        if self._kind is SoundKind.LOOP:  # the others end with their last sample, and wait for no long buffer
            sink.setBufferSize(_BUFFER_BYTES)
        sink.start(self._buffer)

    def _follow_sink(self, state: Any) -> None:
        """End once everything is out: then the sink waits for more."""
        if state == self._media.QAudio.State.IdleState and not self._kind.recorded:
            QTimer.singleShot(200, lambda: QCoreApplication.exit(0))

    def _record(self, device: Any, form: Any) -> None:
        sequence = len(played(self._kind)) / RATE
        seconds = _BEFORE_S + sequence + _AFTER_S if self._kind is SoundKind.LOOP else _VOICE_S
        self._source = source = self._media.QAudioSource(device, form, self)
        source.setBufferSize(_BUFFER_BYTES)
        self._stream = source.start()
        if self._stream is None:
            return self._give_up(f"{device.description()} cannot be opened")
        self._heard.clear()
        self._begun, self._until = time.monotonic(), seconds
        self._stream.readyRead.connect(self._take)
        self._timer.start(100)
        return None

    def _take(self) -> None:
        assert self._stream is not None
        self._heard += bytes(self._stream.readAll())

    def _samples(self) -> Samples:
        whole = len(self._heard) // (4 * _CHANNELS) * 4 * _CHANNELS
        return np.frombuffer(bytes(self._heard[:whole]), np.float32).reshape(-1, _CHANNELS)

    def _look(self) -> None:
        """Write the level of the last tenth of a second; measure when enough has come."""
        samples, gone = self._samples(), time.monotonic() - self._begun
        write(Message(level_db=level(samples[-RATE // 10 :])))
        if len(samples) >= self._until * RATE or gone > self._until + _DEAF_S:
            self._timer.stop()
            self._source.stop()
            if self._sink is not None:
                self._sink.stop()
            if len(samples) < RATE:
                return self._give_up("the sound input gives no samples")
            if self._kind is not SoundKind.LOOP:
                return self._end(of_voice(measure_voice(samples)))
            loop = measure_loop(samples)
            if torn(loop) and self._tries < _TRIES:
                return self._again()
            return self._end(of_loop(loop))
        return None

    def _end(self, measured: tuple[tuple[str, float], ...]) -> None:
        write(Message(measured=measured))
        QCoreApplication.exit(0)


def main(arguments: list[str]) -> int:
    """Play or record until the end of the sound or of the input."""
    application = QCoreApplication(["thresher-sound"])
    try:
        from PyQt6 import QtMultimedia
    except ImportError as error:
        write(Message(reason=f"Qt's sound cannot be loaded ({error}); install the package libpulse0"))
        return 0
    worker = _Worker(QtMultimedia, SoundKind(arguments[0]), int(arguments[1]))
    ends = QSocketNotifier(sys.stdin.fileno(), QSocketNotifier.Type.Read)  # type: ignore[arg-type]
    ends.activated.connect(lambda: QCoreApplication.exit(0))
    QTimer.singleShot(0, worker.begin)
    return application.exec()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
