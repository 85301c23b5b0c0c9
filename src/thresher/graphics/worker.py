"""Works one card for another process: `python -m thresher.graphics.worker < order`.

The first line of standard input is the order; a number says which share of its time the card may work from now on, to
hold a temperature, and the end of the input stops the work. Each line of standard output is a
report, at least one a second while beats come. A driver that hangs, hangs this process alone; whoever started it ends
it.
"""

import statistics
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import msgspec

from thresher.graphics.compute import ComputeLoad
from thresher.graphics.egl import CardContext, CardDevice, card_devices
from thresher.graphics.memory import MemoryLoad
from thresher.graphics.mirror import MirrorWriter
from thresher.graphics.order import CARD, SOFTWARE, CardOrder, Scale
from thresher.graphics.raster import RasterLoad
from thresher.graphics.results import MOST_WRONG, Beat, CardReport, FrameTimes, Wrong
from thresher.graphics.transfer import TransferLoad
from thresher.model.card_port import CardUse
from thresher.model.errors import SourceUnavailable
from thresher.model.shapes import rest_until

if TYPE_CHECKING:
    import moderngl

_REPORT_S = 0.25
_MOST_TIMES = 400
_SOON_S = 1e-6
"""A rest shorter than this is none: a clock that counts in larger steps would never reach its end."""


class CardLoad(Protocol):
    """Work on a card, beat by beat."""

    @property
    def covered(self) -> int:
        """Bytes of card memory that are checked."""
        ...

    def beat(self) -> Beat:
        """Do one beat and check it."""
        ...


def _compute(gl: "moderngl.Context", _order: CardOrder, scale: Scale) -> CardLoad:
    return ComputeLoad(gl, scale.lanes, scale.turns)


def _raster(gl: "moderngl.Context", order: CardOrder, scale: Scale) -> CardLoad:
    folder = Path(order.folder) if order.folder else None
    size = order.size or scale.size
    mirror = MirrorWriter(order.mirror, size) if order.mirror else None
    return RasterLoad(gl, size, scale.stalks, scale.layers, folder, mirror=mirror)


def _memory(gl: "moderngl.Context", order: CardOrder, scale: Scale) -> CardLoad:
    return MemoryLoad(gl, order.amount or scale.amount, order.retention_s, scale.most_words)


def _transfer(gl: "moderngl.Context", _order: CardOrder, scale: Scale) -> CardLoad:
    return TransferLoad(gl, scale.block)


MAKE_LOAD: dict[CardUse, Callable[["moderngl.Context", CardOrder, Scale], CardLoad]] = {
    CardUse.COMPUTE: _compute,
    CardUse.RASTER: _raster,
    CardUse.MEMORY: _memory,
    CardUse.TRANSFER: _transfer,
}


def device_for(order: CardOrder, devices: tuple[CardDevice, ...]) -> CardDevice:
    """Return the device of an order. Raises SourceUnavailable where OpenGL does not offer it."""
    for device in devices:
        if (device.pci == order.pci) if order.pci else device.software:
            return device
    offered = ", ".join(each.pci or "a software renderer" for each in devices) or "nothing"
    wanted = order.pci or "a software renderer"
    raise SourceUnavailable(wanted, f"OpenGL does not offer it: its driver is missing. It offers {offered}")


class Books:
    """Totals since the begin, and what came since the last report."""

    def __init__(self) -> None:
        """Begin with nothing."""
        self.beats = self.wrong_count = 0
        self.units = self.busy_s = 0.0
        self._wrong: list[Wrong] = []
        self._pictures: list[str] = []
        self._times: list[float] = []

    def note(self, beat: Beat, seconds: float) -> None:
        """Enter one beat."""
        self.beats += 1
        self.units += beat.units
        self.busy_s += seconds
        self.wrong_count += beat.wrong_count
        self._wrong += beat.wrong[: max(0, MOST_WRONG - len(self._wrong))]
        if beat.picture:
            self._pictures.append(beat.picture)
        self._times.append(seconds * 1000)

    def take(self) -> tuple[tuple[Wrong, ...], tuple[str, ...], FrameTimes | None]:
        """Return what came since the last call."""
        times = self._times
        frames = None
        if times:
            recent = tuple(round(each, 2) for each in times[-_MOST_TIMES:])
            frames = FrameTimes(round(statistics.median(times), 2), round(max(times), 2), recent)
        found = tuple(self._wrong), tuple(self._pictures), frames
        self._wrong, self._pictures, self._times = [], [], []
        return found


def _say(report: CardReport) -> None:
    sys.stdout.write(msgspec.json.encode(report).decode() + "\n")
    sys.stdout.flush()


@dataclass(slots=True)
class WorkControl:
    """What whoever started the work asks of it meanwhile: to stop, or to work only a share of its time, 0 to 1."""

    stopped: threading.Event = field(default_factory=threading.Event)
    allowed: float = 1.0

    def listen(self) -> None:
        """Take in what is asked, until the input ends or asks for a stop."""
        for line in sys.stdin:
            try:
                self.allowed = min(1.0, max(0.0, float(line)))
            except ValueError:
                break
        self.stopped.set()


def work(
    load: CardLoad,
    order: CardOrder,
    reset: Callable[[], str],
    control: WorkControl,
    say: Callable[[CardReport], None],
    clock: Callable[[], float] = time.monotonic,
) -> None:
    """Do beats in the shape of the order until stopped, or until the card was reset; report on the way."""
    stopped = control.stopped
    books, began, said = Books(), clock(), clock()
    why = ""
    while not stopped.is_set() and not why:
        at = clock() - (order.begun or began)
        until = rest_until(order.shape, at, 0, 1, control.allowed)
        if until > at + _SOON_S:
            stopped.wait(min(until - at, _REPORT_S))
        else:
            begun = clock()
            beat = load.beat()
            books.note(beat, clock() - begun)
            why = reset()
        if clock() - said >= _REPORT_S:
            said = clock()
            say(_report(books, load, clock() - began))
    say(msgspec.structs.replace(_report(books, load, clock() - began), reset=why, ended=True))


def _report(books: Books, load: CardLoad, seconds: float) -> CardReport:
    wrong, pictures, frames = books.take()
    return CardReport(
        beats=books.beats,
        units=books.units,
        seconds=seconds,
        busy_s=books.busy_s,
        wrong_count=books.wrong_count,
        wrong=wrong,
        pictures=pictures,
        frames=frames,
        covered=load.covered,
        frame_width=load.size[0] if isinstance(load, RasterLoad) else 0,
    )


def main() -> int:
    """Work until the input ends."""
    order = msgspec.json.decode(sys.stdin.readline(), type=CardOrder)
    control = WorkControl()
    threading.Thread(target=control.listen, name="listens", daemon=True).start()
    try:
        import moderngl

        device = device_for(order, card_devices())
        context = CardContext(device)
        gl = moderngl.get_context()
        _say(CardReport(renderer=str(gl.info["GL_RENDERER"]), software=device.software))
        load = MAKE_LOAD[order.use](gl, order, SOFTWARE if device.software else CARD)
    except SourceUnavailable as error:
        _say(CardReport(trouble=error.reason, ended=True))
        return 2
    except (ImportError, MemoryError) as error:
        _say(CardReport(trouble=str(error), ended=True))
        return 2
    work(load, order, context.reset, control, _say)
    return 0


if __name__ == "__main__":
    sys.exit(main())
