"""Reads one camera through Qt and writes small pictures of it as JSON lines, until its input ends.

Usage: python -m thresher.ui.camera_worker NUMBER, from 0.
"""

import base64
import sys
import time
from typing import Any

import msgspec
import numpy as np
from PyQt6.QtCore import QBuffer, QIODevice, QObject, QSocketNotifier, Qt, QTimer
from PyQt6.QtGui import QGuiApplication, QImage

from thresher.media.frames import Frame, FrameCount

_SHOWN = (640, 360)
_EVERY_S = 0.1
_DEAF_S = 6.0


def write(frame: Frame) -> None:
    """Write one line."""
    print(msgspec.json.encode(frame).decode(), flush=True)


class _Worker(QObject):
    """One camera. `media` is the module of Qt's cameras."""

    def __init__(self, media: Any, number: int) -> None:
        super().__init__()
        self._media, self._number = media, number
        self._count = FrameCount()
        self._written = 0.0
        self._name, self._devices = "", 0
        self._parts: list[Any] = []

    def begin(self) -> None:
        """Open the camera; says so when there is none."""
        cameras = self._media.QMediaDevices.videoInputs()
        if self._number >= len(cameras):
            return self._give_up("this machine has no camera" if not cameras else f"there are only {len(cameras)}")
        device = cameras[self._number]
        self._name, self._devices = device.description(), len(cameras)
        camera, session = self._media.QCamera(device, self), self._media.QMediaCaptureSession(self)
        sink = self._media.QVideoSink(self)
        self._parts = [camera, session, sink]
        session.setCamera(camera)
        session.setVideoSink(sink)
        sink.videoFrameChanged.connect(self._take)
        camera.errorOccurred.connect(lambda _error, words: self._give_up(f"{self._name}: {words}"))
        camera.start()
        QTimer.singleShot(int(_DEAF_S * 1000), self._look)
        return None

    def _look(self) -> None:
        if not self._count.frames:
            self._give_up(f"{self._name} is there and sends no picture")

    def _give_up(self, reason: str) -> None:
        write(Frame(reason=reason))
        QGuiApplication.exit(0)

    def _take(self, frame: Any) -> None:
        image = frame.toImage()
        if image.isNull():
            return
        small = image.scaled(*_SHOWN, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.FastTransformation)
        mean, spread = self._count.take(grey_values(small))
        now = time.monotonic()
        if now - self._written < _EVERY_S:
            return
        self._written = now
        write(
            Frame(
                device=self._name,
                devices=self._devices,
                picture=base64.b64encode(jpeg(small)).decode(),
                frames=self._count.frames,
                changed=self._count.changed,
                brightness=mean,
                spread=spread,
            )
        )


def grey_values(image: QImage) -> np.ndarray[Any, np.dtype[np.uint8]]:
    """Return the grey values of an image by row and column."""
    grey = image.convertToFormat(QImage.Format.Format_Grayscale8)
    bits = grey.constBits()
    assert bits is not None
    rows = np.frombuffer(bits.asstring(grey.sizeInBytes()), np.uint8).reshape(grey.height(), grey.bytesPerLine())
    return rows[:, : grey.width()].copy()


def jpeg(image: QImage) -> bytes:
    """Return an image as JPEG."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "JPG", 80)
    return buffer.data().data()


def main(arguments: list[str]) -> int:
    """Show the camera until the input ends."""
    application = QGuiApplication(["thresher-camera", "-platform", "offscreen"])
    try:
        from PyQt6 import QtMultimedia
    except ImportError as error:
        write(Frame(reason=f"Qt's cameras cannot be loaded ({error}); install the package libpulse0"))
        return 0
    worker = _Worker(QtMultimedia, int(arguments[0]))
    ends = QSocketNotifier(sys.stdin.fileno(), QSocketNotifier.Type.Read)  # type: ignore[arg-type]
    ends.activated.connect(lambda: QGuiApplication.exit(0))
    QTimer.singleShot(0, worker.begin)
    return application.exec()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
