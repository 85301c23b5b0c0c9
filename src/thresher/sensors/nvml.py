"""Graphics cards that report their readings only through the management library of their maker's driver.

The library is loaded by ctypes when it is there; that it is not there is reported once, and only when such a card is.
Its functions are those of the published interface (`nvml.h`). A call may never come back after a card has fallen off
its bus, so that a thread of its own asks, and the sampler takes the last answer as long as it is fresh."""

import ctypes
import ctypes.util
import json
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

from thresher.model.channels import Channel, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.sensors.probes import Probe

_ASK_EVERY_S = 1.0
_FRESH_S = 5.0
_OK, _NAME_BYTES = 0, 96
_TEMPERATURE_GPU = 0
_CLOCKS = ((0, "core clock"), (2, "memory clock"))


class _Utilisation(ctypes.Structure):
    _fields_ = [("gpu", ctypes.c_uint), ("memory", ctypes.c_uint)]


class _Memory(ctypes.Structure):
    _fields_ = [("total", ctypes.c_ulonglong), ("free", ctypes.c_ulonglong), ("used", ctypes.c_ulonglong)]


QUANTITIES: tuple[tuple[str, Quantity], ...] = (
    ("temperature", Quantity.TEMPERATURE),
    ("power", Quantity.POWER),
    ("fan duty", Quantity.DUTY),
    ("use", Quantity.USE),
    ("memory use", Quantity.USE),
    ("memory in use", Quantity.MEMORY),
    ("core clock", Quantity.FREQUENCY),
    ("memory clock", Quantity.FREQUENCY),
)
"""What is asked of each card, in this order."""


class Library:
    """The management library, initialised. Raises SourceUnavailable when it is not there or refuses."""

    def __init__(self, load: Callable[[str], Any] = ctypes.CDLL) -> None:
        """Load and initialise it."""
        self.path = "libnvidia-ml.so.1"
        try:
            self._call: Any = load(self.path)
        except OSError as error:
            reason = "the driver's management library is not installed"
            raise SourceUnavailable(self.path, reason) from error
        if self._call.nvmlInit_v2() != _OK:
            raise SourceUnavailable(self.path, "the management library does not start; is its driver loaded?")
        count = ctypes.c_uint()
        self._call.nvmlDeviceGetCount_v2(ctypes.byref(count))
        self._cards = []
        for number in range(count.value):
            handle = ctypes.c_void_p()
            if self._call.nvmlDeviceGetHandleByIndex_v2(number, ctypes.byref(handle)) == _OK:
                self._cards.append(handle)

    def names(self) -> list[str]:
        """Return what the cards are called."""
        found = []
        for card in self._cards:
            text = ctypes.create_string_buffer(_NAME_BYTES)
            self._call.nvmlDeviceGetName(card, text, _NAME_BYTES)
            found.append(text.value.decode("utf-8", "replace") or "graphics card")
        return found

    def readings(self, number: int) -> list[float | None]:
        """Return a card's readings in the order of `QUANTITIES`, None for what it does not report."""
        card, call = self._cards[number], self._call
        use, memory = _Utilisation(), _Memory()
        reported = call.nvmlDeviceGetUtilizationRates(card, ctypes.byref(use)) == _OK
        counted = call.nvmlDeviceGetMemoryInfo(card, ctypes.byref(memory)) == _OK
        return [
            self._number(call.nvmlDeviceGetTemperature, card, _TEMPERATURE_GPU),
            self._number(call.nvmlDeviceGetPowerUsage, card, scale=1e-3),
            self._number(call.nvmlDeviceGetFanSpeed, card),
            float(use.gpu) if reported else None,
            float(use.memory) if reported else None,
            memory.used / (1 << 30) if counted else None,
            *(self._number(call.nvmlDeviceGetClockInfo, card, kind) for kind, _name in _CLOCKS),
        ]

    def _number(self, function: Any, card: Any, *arguments: int, scale: float = 1.0) -> float | None:
        value = ctypes.c_uint()
        done = function(card, *arguments, ctypes.byref(value)) == _OK
        return value.value * scale if done else None


class CardSource:
    """The last answer of one card as JSON, asked for by a thread of its own."""

    def __init__(self, library: Library, number: int) -> None:
        """Begin asking."""
        self.path = f"{library.path}, card {number}"
        self._library, self._number = library, number
        self._answer: tuple[float, list[float | None]] | None = None
        self._closed = threading.Event()
        self._thread = threading.Thread(target=self._ask, name=f"graphics card {number}", daemon=True)
        self._thread.start()

    def _ask(self) -> None:
        while not self._closed.is_set():
            self._answer = (time.monotonic(), self._library.readings(self._number))
            self._closed.wait(_ASK_EVERY_S)

    def read(self) -> bytes:
        """Return the last answer. Raises SourceUnavailable when there is none that is fresh."""
        if self._answer is None:
            raise SourceUnavailable(self.path, "no answer yet")
        age = time.monotonic() - self._answer[0]
        if age > _FRESH_S:
            raise SourceUnavailable(self.path, f"no answer for {age:.0f} s; the card may have fallen off its bus")
        return json.dumps(self._answer[1]).encode()

    def close(self) -> None:
        """Stop asking; an answer that never comes is not waited for."""
        self._closed.set()


def parse_card(content: bytes, _at: float) -> Sequence[float]:
    """Parse the readings of a card; what it does not report is NaN."""
    return [float("nan") if value is None else float(value) for value in json.loads(content)]


def find(inventory: Inventory, unknown: list[Fact], load: Callable[[str], Any] = ctypes.CDLL) -> list[Probe]:
    """Return a probe a card; when such a card is there and its library is not, that is noted."""
    drivers = {part.fact("driver") for part in inventory.parts_of(PartKind.GRAPHICS)}
    if "nvidia" not in drivers:
        return []
    try:
        library = Library(load)
    except SourceUnavailable as error:
        unknown.append(Fact("readings of the graphics card", error.reason, error.path))
        return []
    probes = []
    for number, name in enumerate(library.names()):
        source = CardSource(library, number)
        channels = tuple(
            Channel(f"nvml/{number}/{word}", f"{name} {word}", quantity, PartKind.GRAPHICS, source.path)
            for word, quantity in QUANTITIES
        )
        probes.append(Probe(source, channels, parse_card))
    return probes
