"""The wire: JSON-RPC 2.0, one object a line. Requests carry a command, notifications an event."""

import msgspec

from thresher.protocol.commands import METHODS, AnyCommand, Command, T, answer_type, method_of
from thresher.protocol.events import EngineEvent

VERSION = 2

PARSE_ERROR, INVALID_REQUEST, NO_SUCH_METHOD, INVALID_PARAMS, INTERNAL_ERROR = -32700, -32600, -32601, -32602, -32603
ENVIRONMENT_FAULT, INPUT_FAULT = 1, 2

_NO_FIELDS = msgspec.Raw(b"{}")
_NOTHING = msgspec.Raw(b"null")


class Request(msgspec.Struct, frozen=True):
    """A JSON-RPC request; without `id` a notification, which gets no answer."""

    jsonrpc: str
    method: str
    params: msgspec.Raw = _NO_FIELDS
    id: int | str | None = None


class RpcError(msgspec.Struct, frozen=True):
    """A JSON-RPC error."""

    code: int
    message: str


class RefusedRequest(Exception):
    """A line that is no command; `error` is the answer to it, `request_id` whose answer that is."""

    def __init__(self, error: RpcError, request_id: int | str | None = None) -> None:
        """Keep the answer."""
        self.error = error
        self.request_id = request_id
        super().__init__(error.message)


def encode_command(command: Command[T], request_id: int) -> bytes:
    """Return the request line of a command."""
    fields = msgspec.structs.asdict(command)
    request = {"jsonrpc": "2.0", "id": request_id, "method": method_of(command), "params": fields}
    return msgspec.json.encode(request) + b"\n"


def decode_request(line: bytes) -> tuple[AnyCommand, int | str | None]:
    """Return the command on a request line and its id. Raises RefusedRequest."""
    try:
        request = msgspec.json.decode(line, type=Request)
    except msgspec.ValidationError as error:
        raise RefusedRequest(RpcError(INVALID_REQUEST, str(error))) from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RefusedRequest(RpcError(PARSE_ERROR, str(error))) from error
    kind = METHODS.get(request.method)
    if kind is None:
        words = f"unknown method {request.method!r}; known: {', '.join(sorted(METHODS))}"
        raise RefusedRequest(RpcError(NO_SUCH_METHOD, words), request.id)
    try:
        # the method is the tag of the command, which the fields do not repeat
        fields = msgspec.json.decode(request.params, type=dict[str, msgspec.Raw])
        tagged = msgspec.json.encode({"method": request.method, **fields})
        return msgspec.json.decode(tagged, type=kind), request.id
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise RefusedRequest(RpcError(INVALID_PARAMS, f"{request.method}: {error}"), request.id) from error


def decode_answer(command: Command[T], result: msgspec.Raw) -> T:
    """Return the answer to a command."""
    return msgspec.json.decode(result, type=answer_type(command))


def encode_answer(request_id: int | str | None, result: object) -> bytes:
    """Return a response line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request_id, "result": result}) + b"\n"


def encode_error(request_id: int | str | None, error: RpcError) -> bytes:
    """Return an error line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request_id, "error": error}) + b"\n"


class Notice(msgspec.Struct, frozen=True):
    """The params of a notification: an event and its number, counted from the engine's start."""

    number: int
    event: EngineEvent


def encode_event(event: EngineEvent, number: int) -> bytes:
    """Return the notification line of an event."""
    return msgspec.json.encode({"jsonrpc": "2.0", "method": "event", "params": Notice(number, event)}) + b"\n"


class Incoming(msgspec.Struct, frozen=True):
    """A line from the engine: an answer (with `id`) or a notification (with `method`)."""

    id: int | str | None = None
    method: str = ""
    params: msgspec.Raw = _NOTHING
    result: msgspec.Raw = _NOTHING
    error: RpcError | None = None


INCOMING: msgspec.json.Decoder[Incoming] = msgspec.json.Decoder(Incoming)
NOTICES: msgspec.json.Decoder[Notice] = msgspec.json.Decoder(Notice)
