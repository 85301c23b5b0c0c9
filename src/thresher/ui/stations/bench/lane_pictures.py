"""The lanes as a picture of their own, with title, times and job number: PNG or SVG."""

from pathlib import Path

from PyQt6.QtCore import QRect, QSize
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtSvg import QSvgGenerator

from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.ui.stations.bench.lanes_view import LanesView

_SIZE = QSize(1280, 720)
_FINE = 2


def lanes_image(lanes: LanesView) -> QImage:
    """Return the lanes as they stand, in twice the resolution of a usual screen."""
    image = QImage(_SIZE * _FINE, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(_FINE)
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
    lanes.picture(painter, _SIZE)
    painter.end()
    return image


def save_lanes(lanes: LanesView, path: Path) -> None:
    """Write the lanes as they stand into a file. Raises InputError for its ending, EnvironmentFault for the rest."""
    kind = path.suffix.lower()
    if kind not in (".png", ".svg"):
        raise InputError("lane picture", [InputFault("file", f"expected .png or .svg, found {path.name!r}")])
    try:
        path.open("wb").close()
    except OSError as error:
        tried = f"writing {path}"
        raise EnvironmentFault(tried, error.strerror or str(error), "Choose a folder that can be written.") from error
    if kind == ".png":
        written = lanes_image(lanes).save(str(path))
    else:
        generator = QSvgGenerator()
        generator.setFileName(str(path))
        generator.setSize(_SIZE)
        generator.setViewBox(QRect(0, 0, _SIZE.width(), _SIZE.height()))
        generator.setTitle("Thresher lanes")
        painter = QPainter(generator)
        lanes.picture(painter, _SIZE)
        written = painter.end()
    if not written:
        raise EnvironmentFault(f"writing {path}", "the picture could not be written whole", "Is the disk full?")
