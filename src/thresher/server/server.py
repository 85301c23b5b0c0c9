"""The engine's Unix socket: JSON-RPC 2.0, a line an object, for windows and for tests.

A client that subscribes gets every event. One that does not read fast enough is disconnected and may come back; the
engine never waits for it.
"""

import asyncio
import contextlib
import logging
import os
import socket
import sys
import threading
import traceback
from functools import partial
from pathlib import Path
from typing import Any

from thresher.engine.engine import Engine
from thresher.model.errors import BugError, EnvironmentFault, InputError, ThresherError
from thresher.model.private_folder import private_folder
from thresher.model.regular_file import is_there
from thresher.protocol.commands import AnyCommand, ListJobs, NewJob, Subscribe
from thresher.protocol.events import EngineEvent
from thresher.protocol.peer import is_trusted, peer_user
from thresher.protocol.wire import (
    ENVIRONMENT_FAULT,
    INPUT_FAULT,
    INTERNAL_ERROR,
    PARSE_ERROR,
    RefusedRequest,
    RpcError,
    decode_request,
    encode_answer,
    encode_error,
    encode_event,
)
from thresher.server.dispatch import carry_out, prepare

_LOG = logging.getLogger(__name__)
_MOST_UNSENT = 16 << 20
_LONGEST_LINE = 4 << 20
_MOST_WAITING = 1_000
_MOST_WAITING_BYTES = 8 << 20
"""Requests of one client that may wait, and their bytes; then it is not read further until some are done."""
_LOOK_ROUND_S = 0.5


def take_socket(path: Path) -> socket.socket:
    """Bind the engine's socket, mode 0600, taking away a dead one. Raises EnvironmentFault when one is alive."""
    try:
        _check_owner(path.parent)
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.connect(str(path))
        raise EnvironmentFault(
            f"opening the engine's socket {path}", "another engine answers there", "Close it, or use another name."
        )
    except FileNotFoundError:
        pass
    except ConnectionRefusedError:
        path.unlink(missing_ok=True)
    except OSError as error:
        raise EnvironmentFault(
            f"opening the engine's socket {path}",
            os.strerror(error.errno or 0),
            "Set XDG_RUNTIME_DIR to a folder of yours.",
        ) from error
    listening = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    mask = os.umask(0o177)
    try:
        listening.bind(str(path))
    except OSError as error:
        listening.close()
        raise EnvironmentFault(
            f"opening the engine's socket {path}", os.strerror(error.errno or 0), "Use a shorter path of yours."
        ) from error
    finally:
        os.umask(mask)
    listening.listen(8)
    listening.setblocking(False)
    return listening


def _check_owner(folder: Path) -> None:
    """Refuse a folder that another user could put a socket of theirs into."""
    if not is_there(folder):
        private_folder(folder)
    found = folder.stat()
    if found.st_uid != os.geteuid() or found.st_mode & 0o022:
        raise EnvironmentFault(
            f"opening the engine's socket in {folder}",
            "other users may write to this folder",
            "Set XDG_RUNTIME_DIR to a folder of yours alone.",
        )


class _Connection:
    """One client."""

    def __init__(self, engine: Engine, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._engine = engine
        self._reader = reader
        self._writer = writer
        self._waiting_bytes = 0
        self._room = asyncio.Event()
        self.subscribed = False

    def send(self, line: bytes) -> None:
        """Send a line, or drop the client when too much is unsent."""
        if self._writer.transport.get_write_buffer_size() > _MOST_UNSENT:
            _LOG.warning("a client does not read; disconnecting it")
            self._writer.transport.abort()
        elif not self._writer.is_closing():
            self._writer.write(line)

    async def serve(self) -> None:
        """Carry out what the client asks until it goes, and after that what it had asked before it went.

        Lines are read apart from answering them: an answer that a client no longer takes breaks the stream, and
        with it would go requests that have come already, such as the last one of a window that closes.
        """
        if not _may_connect(self._writer):
            self._writer.close()
            return
        lines: asyncio.Queue[bytes] = asyncio.Queue(_MOST_WAITING)
        reading = asyncio.create_task(self._read(lines))
        try:
            while line := await lines.get():
                self._waiting_bytes -= len(line)
                self._room.set()
                reply = await self._answer(line)
                if reply is not None:
                    self.send(reply)
        finally:
            reading.cancel()
            with contextlib.suppress(ConnectionError):
                self._writer.close()
                await self._writer.wait_closed()

    async def _read(self, lines: "asyncio.Queue[bytes]") -> None:
        """Put lines into the queue, and an empty one at the end."""
        try:
            while line := await self._reader.readline():
                self._waiting_bytes += len(line)
                await lines.put(line)
                while self._waiting_bytes > _MOST_WAITING_BYTES:
                    self._room.clear()
                    await self._room.wait()
        except (ValueError, ConnectionError):
            # a line beyond all bounds, or a client gone in the middle of one
            self.send(encode_error(None, RpcError(PARSE_ERROR, f"a line may have {_LONGEST_LINE} bytes at most")))
        await lines.put(b"")

    async def _answer(self, line: bytes) -> bytes | None:
        """Carry out one line; a notification, which has no id, is carried out and gets no answer."""
        try:
            command, request_id = decode_request(line)
        except RefusedRequest as refused:
            return encode_error(refused.request_id, refused.error)
        reply = await self._carry_out(command, request_id)
        return reply if request_id is not None else None

    async def _carry_out(self, command: AnyCommand, request_id: int | str | None) -> bytes:
        if isinstance(command, Subscribe):
            self.subscribed = True
            return encode_answer(request_id, True)
        try:
            if isinstance(command, ListJobs | NewJob):
                prepared = await asyncio.wrap_future(self._engine.submit(partial(prepare, self._engine, command)))
                return encode_answer(request_id, await asyncio.to_thread(prepared))
            result = await asyncio.wrap_future(self._engine.submit(lambda: carry_out(self._engine, command)))
            return encode_answer(request_id, result)
        except InputError as error:
            return encode_error(request_id, RpcError(INPUT_FAULT, str(error)))
        except ThresherError as error:
            return encode_error(request_id, RpcError(ENVIRONMENT_FAULT, str(error)))
        except Exception as error:  # noqa: BLE001 (a bug of ours must not take the connection, and is called one)
            _LOG.exception("bug while carrying out %s", type(command).__name__)
            bug = BugError.of(error, traceback.format_exception(error))
            return encode_error(request_id, RpcError(INTERNAL_ERROR, str(bug)))


def _may_connect(writer: asyncio.StreamWriter) -> bool:
    user = peer_user(writer.get_extra_info("socket"))
    if not is_trusted(user):
        _LOG.warning("user %d has tried to connect and was refused", user)
    return is_trusted(user)


def _note_who_is_there(engine: Engine, connections: "set[_Connection]") -> None:
    """Once the last client has gone nobody is there to answer a question."""
    if not connections:
        engine.submit(partial(setattr, engine.questions, "attended", False))


async def _serve(engine: Engine, listening: socket.socket, ended: asyncio.Event, linger_s: float) -> None:
    connections: set[_Connection] = set()
    loop = asyncio.get_running_loop()

    def fan_out(event: EngineEvent) -> None:
        line = encode_event(event, engine.events_published)

        def send_all() -> None:
            for each in connections:
                if each.subscribed:
                    each.send(line)

        with contextlib.suppress(RuntimeError):  # the loop has closed while the engine says its last words
            loop.call_soon_threadsafe(send_all)

    async def on_connect(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        connection = _Connection(engine, reader, writer)
        connections.add(connection)
        _LOG.info("a client has connected")
        try:
            await connection.serve()
        finally:
            connections.discard(connection)
            _note_who_is_there(engine, connections)
            _LOG.info("a client has gone")

    async def end_when_forgotten() -> None:
        """Without a window and without a run for a long while nobody needs this engine any more."""
        alone_since = loop.time()
        while True:
            await asyncio.sleep(_LOOK_ROUND_S)
            if connections or engine.conductor.active:
                alone_since = loop.time()
            elif loop.time() - alone_since > linger_s:
                engine.quit()

    engine.subscribe(fan_out)
    forgotten = asyncio.create_task(end_when_forgotten())
    # from Python 3.13 on a server takes the socket's file away, which the next engine of this process still needs
    keep: dict[str, Any] = {"cleanup_socket": False} if sys.version_info >= (3, 13) else {}
    server = await asyncio.start_unix_server(on_connect, sock=listening, limit=_LONGEST_LINE, **keep)
    await ended.wait()
    forgotten.cancel()
    await asyncio.sleep(0.05)  # let the last lines out
    server.close()


def serve(engine: Engine, listening: socket.socket, linger_s: float = 1800.0) -> None:
    """Run the engine on a thread of its own and serve the socket on this one until the engine quits.

    It quits by itself when for `linger_s` no client was there and no run went on.
    """
    loop = asyncio.new_event_loop()
    ended = asyncio.Event()
    crash: list[BaseException] = []

    def work() -> None:
        try:
            engine.serve()
        except BaseException as error:  # noqa: BLE001 (raised again on the main thread, so that the process ends with it)
            crash.append(error)
        finally:
            loop.call_soon_threadsafe(ended.set)

    thread = threading.Thread(target=work, name="engine", daemon=True)
    thread.start()
    try:
        loop.run_until_complete(_serve(engine, listening, ended, linger_s))
    finally:
        engine.quit()
        thread.join(15.0)
        left = asyncio.all_tasks(loop)
        for task in left:
            task.cancel()
        if left:
            loop.run_until_complete(asyncio.wait(left))
        loop.close()
    if crash:
        raise crash[0]
