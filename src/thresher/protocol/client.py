"""A small blocking client of the engine's socket, for command line and tests; the window has its own."""

import socket
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.protocol.commands import Command, T, method_of
from thresher.protocol.events import EngineEvent
from thresher.protocol.peer import is_trusted, peer_user
from thresher.protocol.wire import INCOMING, NOTICES, Incoming, decode_answer, encode_command


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
        if not is_trusted(peer_user(self._socket)):
            self._socket.close()
            raise EnvironmentFault(f"connecting to {path}", "another user's program answers there", "Remove it.")
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
            raise EnvironmentFault("reading from the engine", "the engine has ended", "Start it again.")
        return INCOMING.decode(line)

    def call(self, command: Command[T]) -> T:
        """Send a command and return its answer. Raises EnvironmentFault with the engine's own message."""
        self._next_id += 1
        try:
            self._socket.sendall(encode_command(command, self._next_id))
        except OSError as error:
            raise EnvironmentFault("writing to the engine", error.strerror or str(error), "Start it again.") from error
        while True:
            incoming = self._line()
            if incoming.method:
                self._events.append(NOTICES.decode(incoming.params).event)
            elif incoming.error is not None:
                raise EnvironmentFault(f"asking the engine for {method_of(command)}", incoming.error.message, "")
            elif incoming.id == self._next_id:
                return decode_answer(command, incoming.result)

    def next_event(self) -> EngineEvent:
        """Return the next event, waiting for it up to the timeout."""
        if self._events:
            return self._events.pop(0)
        while True:
            incoming = self._line()
            if incoming.method:
                return NOTICES.decode(incoming.params).event
