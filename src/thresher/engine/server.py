"""The engine's Unix socket: JSON-RPC 2.0, a line an object, for windows and for tests.

A client that calls `subscribe` gets every event. One that does not read fast enough is disconnected and may
come back; the engine never waits for it.
"""

import asyncio
import contextlib
import os
import socket
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from thresher.engine.engine import Engine
from thresher.engine.intake import BASELINE_S
from thresher.engine.protocol import (
    ENVIRONMENT_FAULT,
    INPUT_FAULT,
    INVALID_PARAMS,
    INVALID_REQUEST,
    NO_SUCH_METHOD,
    PARSE_ERROR,
    EngineEvent,
    Request,
    answer,
    notice,
    refusal,
)
from thresher.engine.sheet_file import parse_sheet, trial_sheet
from thresher.model.channels import LimitSide
from thresher.model.decisions import Culprit
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import Finding
from thresher.model.parts import PartKind
from thresher.model.trials import Fit, Outcome
from thresher.shop.store import ShopPart

_MOST_UNSENT = 16 << 20
_LONGEST_LINE = 4 << 20
_HISTORY_ROWS = 2_000
_MOST_WAITING = 1_000
"""Requests of one client that may wait; then it is not read further until some are done."""
_LOOK_ROUND_S = 0.5

Method = Callable[[Engine, dict[str, Any]], object]


def _put_sheet(engine: Engine, params: dict[str, Any]) -> object:
    engine.put_sheet(parse_sheet(str(params["toml"]), str(params.get("name", "run sheet"))))
    return engine.status()


def _start(engine: Engine, _params: dict[str, Any]) -> object:
    engine.start()
    return engine.status()


def _set_job(engine: Engine, params: dict[str, Any]) -> object:
    engine.set_job({str(name): str(value) for name, value in params["fields"].items()})
    return engine.job


def _choose_sheet(engine: Engine, params: dict[str, Any]) -> object:
    engine.choose_sheet(str(params["name"]))
    return engine.status()


def _trial_sheet(engine: Engine, params: dict[str, Any]) -> object:
    engine.put_sheet(trial_sheet(str(params["load"]), float(params["minutes"]), str(params.get("title", ""))))
    return engine.status()


def _set_limit(engine: Engine, params: dict[str, Any]) -> object:
    value = params.get("value")
    side = LimitSide(params["side"])
    engine.set_limit(str(params["channel"]), side, None if value is None else float(value), str(params["reason"]))
    return True


def _set_trust(engine: Engine, params: dict[str, Any]) -> object:
    engine.set_trust(str(params["channel"]), bool(params["believed"]), str(params.get("reason", "")))
    return True


def _set_shelf(engine: Engine, params: dict[str, Any]) -> object:
    engine.set_shelf(msgspec.convert(params["parts"], tuple[ShopPart, ...]))
    return True


def _begin_baseline(engine: Engine, params: dict[str, Any]) -> object:
    engine.begin_baseline(float(params.get("seconds", BASELINE_S)))
    return True


def _read_sheets(engine: Engine, _params: dict[str, Any]) -> object:
    engine.read_sheets()
    return True


def _add_evidence(engine: Engine, params: dict[str, Any]) -> object:
    findings = msgspec.convert(params["findings"], tuple[Finding, ...])
    when = params.get("when")
    return engine.outside.add(
        findings, str(params["origin"]), None if when is None else float(when), str(params.get("fit", "")),
        float(params.get("minutes", 0.0)),
    )  # fmt: skip


def _add_outcome(engine: Engine, params: dict[str, Any]) -> object:
    engine.books.add_outcome(int(params["trial"]), msgspec.convert(params["outcome"], Outcome))
    return engine.books.book


def _assign_run(engine: Engine, params: dict[str, Any]) -> object:
    engine.books.assign(int(params["run"]), int(params["trial"]))
    return engine.books.book


def _undo_book(engine: Engine, _params: dict[str, Any]) -> object:
    engine.books.undo()
    return engine.books.book


def _as_seen(engine: Engine, _params: dict[str, Any]) -> object:
    engine.books.take_machines_word()
    return engine.books.book


def _book_stands(engine: Engine, _params: dict[str, Any]) -> object:
    engine.books.let_stand()
    return True


def _reopen(engine: Engine, _params: dict[str, Any]) -> object:
    engine.verdicts.reopen()
    return True


def _let_count(engine: Engine, params: dict[str, Any]) -> object:
    engine.verdicts.let_count(str(params["job"]), bool(params["counts"]))
    return True


def _read_prices(engine: Engine, _params: dict[str, Any]) -> object:
    engine.read_prices()
    return True


def _quit(engine: Engine, _params: dict[str, Any]) -> object:
    engine.quit()
    return True


def _leave(engine: Engine, _params: dict[str, Any]) -> object:
    """A window closes: only the engine knows for sure whether a run goes on, for which it stays."""
    if engine.conductor.active:
        return False
    engine.quit()
    return True


METHODS: dict[str, Method] = {
    "snapshot": lambda engine, _params: engine.snapshot(),
    "history": lambda engine, params: engine.history(float(params["after"]), _HISTORY_ROWS),
    "sheet.put": _put_sheet,
    "sheet.choose": _choose_sheet,
    "sheet.trial": _trial_sheet,
    "sheet.keep": lambda engine, params: engine.keep_sheet(str(params["name"])),
    "sheets.read": _read_sheets,
    "job.set": _set_job,
    "jobs.list": lambda engine, _params: engine.jobs(),
    "jobs.new": lambda engine, _params: engine.new_job(),
    "limit.set": _set_limit,
    "trust.set": _set_trust,
    "shelf.set": _set_shelf,
    "baseline.take": _begin_baseline,
    "evidence.add": _add_evidence,
    "evidence.take_back": lambda engine, _params: engine.outside.take_back(),
    "evidence.note": lambda engine, params: engine.outside.note(str(params["text"])),
    "book.trial": lambda engine, params: engine.books.begin_trial(
        str(params["title"]), msgspec.convert(params["fit"], Fit), bool(params.get("kept", False))
    ),
    "book.part": lambda engine, params: engine.books.add_part(
        str(params["tag"]), PartKind(params["kind"]), str(params.get("name", ""))
    ),
    "book.outcome": _add_outcome,
    "book.assign": _assign_run,
    "book.undo": _undo_book,
    "book.as_seen": _as_seen,
    "book.stands": _book_stands,
    "verdict.freeze": lambda engine, params: engine.freeze_verdict(str(params.get("note", ""))),
    "job.close": lambda engine, params: engine.verdicts.close(
        msgspec.convert(params["culprits"], tuple[Culprit, ...]),
        str(params.get("note", "")),
        engine.job.get("number", ""),
    ),
    "job.reopen": _reopen,
    "closed.count": _let_count,
    "prices.edit": lambda engine, _params: str(engine.desk.keep_prices()),
    "prices.read": _read_prices,
    "run.start": _start,
    "run.stop": lambda engine, _params: engine.stop(),
    "engine.leave": _leave,
    "engine.quit": _quit,
}
"""Every method but `subscribe`, which belongs to the connection. They run on the engine's thread."""


def take_socket(path: Path) -> socket.socket:
    """Bind the engine's socket, mode 0600, taking away a dead one. Raises EnvironmentFault when one is alive."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
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
        self.subscribed = False

    def send(self, line: bytes) -> None:
        """Send a line, or drop the client when too much is unsent."""
        if self._writer.transport.get_write_buffer_size() > _MOST_UNSENT:
            self._writer.transport.abort()
        elif not self._writer.is_closing():
            self._writer.write(line)

    async def serve(self) -> None:
        """Carry out what the client asks until it goes, and after that what it had asked before it went.

        Lines are taken in apart from answering them: an answer that a client no longer takes breaks the stream, and
        with it would go requests that have come already, such as the last one of a window that closes.
        """
        lines: asyncio.Queue[bytes] = asyncio.Queue(_MOST_WAITING)
        reading = asyncio.create_task(self._read(lines))
        try:
            while line := await lines.get():
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
                await lines.put(line)
        except (ValueError, ConnectionError):
            # a line beyond all bounds, or a client gone in the middle of one
            self.send(refusal(None, PARSE_ERROR, f"a line may have {_LONGEST_LINE} bytes at most"))
        await lines.put(b"")

    async def _answer(self, line: bytes) -> bytes | None:
        """Carry out one line; a notification, which has no id, is carried out and gets no answer."""
        try:
            request = msgspec.json.decode(line, type=Request)
        except msgspec.ValidationError as error:
            return refusal(None, INVALID_REQUEST, str(error))
        except msgspec.DecodeError as error:
            return refusal(None, PARSE_ERROR, str(error))
        reply = await self._carry_out(request)
        return reply if request.id is not None else None

    async def _carry_out(self, request: Request) -> bytes:
        if request.method == "subscribe":
            self.subscribed = True
            return answer(request.id, True)
        method = METHODS.get(request.method)
        if method is None:
            return refusal(request.id, NO_SUCH_METHOD, f"there is no method {request.method!r}")
        try:
            result = await asyncio.wrap_future(self._engine.submit(lambda: method(self._engine, request.params)))
        except (AttributeError, KeyError, TypeError, ValueError, msgspec.ValidationError) as error:
            return refusal(request.id, INVALID_PARAMS, f"{request.method}: {error!r}")
        except InputError as error:
            return refusal(request.id, INPUT_FAULT, str(error))
        except EnvironmentFault as error:
            return refusal(request.id, ENVIRONMENT_FAULT, str(error))
        return answer(request.id, result)


async def _serve(engine: Engine, listening: socket.socket, ended: asyncio.Event, linger_s: float) -> None:
    connections: set[_Connection] = set()
    loop = asyncio.get_running_loop()

    def fan_out(event: EngineEvent) -> None:
        line = notice(event, engine.told)

        def send_all() -> None:
            for each in connections:
                if each.subscribed:
                    each.send(line)

        with contextlib.suppress(RuntimeError):  # the loop has closed while the engine says its last words
            loop.call_soon_threadsafe(send_all)

    async def on_connect(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        connection = _Connection(engine, reader, writer)
        connections.add(connection)
        try:
            await connection.serve()
        finally:
            connections.discard(connection)

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
    server = await asyncio.start_unix_server(on_connect, sock=listening, limit=_LONGEST_LINE)
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
