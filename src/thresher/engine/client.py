"""A small blocking client of the engine's socket, for command line and tests; the window has its own."""

import socket
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from thresher.engine.protocol import INCOMING, NOTICES, EngineEvent, Incoming
from thresher.model.errors import EnvironmentFault

T = TypeVar("T")


class EngineClient:
    """A connection to a running engine."""

    def __init__(self, path: Path, timeout_s: float = 10.0) -> None:
        """Connect. Raises EnvironmentFault when no engine answers."""
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._socket.settimeout(timeout_s)
        try:
            self._socket.connect(str(path))
        except OSError as error:
            self._socket.close()
            raise EnvironmentFault(
                f"connecting to {path}", error.strerror or str(error), "Start the engine."
            ) from error
        self._stream = self._socket.makefile("rb")
        self._next_id = 0
        self._events: list[EngineEvent] = []

    def __enter__(self) -> "EngineClient":
        """Use as a context manager."""
        return self

    def __exit__(self, *_exc: object) -> None:
        """Close."""
        self.close()

    def close(self) -> None:
        """Close the connection."""
        self._stream.close()
        self._socket.close()

    def _line(self) -> Incoming:
        try:
            line = self._stream.readline()
        except OSError as error:
            raise EnvironmentFault(
                "reading from the engine", error.strerror or str(error), "Start it again."
            ) from error
        if not line:
            raise EnvironmentFault("reading from the engine", "it has gone", "Start it again.")
        return INCOMING.decode(line)

    def call(self, method: str, kind: type[T], **params: Any) -> T:
        """Call a method and return its result as `kind`. Raises EnvironmentFault with the engine's own message."""
        self._next_id += 1
        request = {"jsonrpc": "2.0", "id": self._next_id, "method": method, "params": params}
        try:
            self._socket.sendall(msgspec.json.encode(request) + b"\n")
        except OSError as error:
            raise EnvironmentFault("writing to the engine", error.strerror or str(error), "Start it again.") from error
        while True:
            incoming = self._line()
            if incoming.method:
                self._events.append(NOTICES.decode(incoming.params).event)
            elif incoming.error is not None:
                raise EnvironmentFault(f"asking the engine for {method}", incoming.error.message, "See above.")
            elif incoming.id == self._next_id:
                return msgspec.json.decode(incoming.result, type=kind)

    def next_event(self) -> EngineEvent:
        """Return the next event, waiting for it up to the timeout."""
        if self._events:
            return self._events.pop(0)
        while True:
            incoming = self._line()
            if incoming.method:
                return NOTICES.decode(incoming.params).event
