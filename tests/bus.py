"""A D-Bus of the test's own: the server's side of the D-Bus Specification, enough for calls and their answers."""

import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from jeepney import HeaderFields, new_method_return
from jeepney.low_level import Message, Parser

Reply = Callable[[Message], Message]


@contextmanager
def bus(path: Path, reply: Reply) -> Iterator[None]:
    """A bus that answers each call as `reply` has it."""
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(str(path))
    listening.listen(4)

    def serve() -> None:
        while True:
            try:
                client, _ = listening.accept()
            except OSError:
                return
            with client:
                _talk(client, reply)

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield
    finally:
        listening.shutdown(socket.SHUT_RDWR)
        listening.close()
        thread.join(5)


def _talk(client: socket.socket, reply: Reply) -> None:
    """Speak the server's side of the D-Bus Specification: authentication, then messages."""
    line = b""
    while not line.endswith(b"BEGIN\r\n"):
        line += client.recv(1)
        if line.endswith(b"\r\n") and b"AUTH" in line:
            client.sendall(b"OK 0123456789abcdef0123456789abcdef\r\n")
            line = b""
        elif line.endswith(b"NEGOTIATE_UNIX_FD\r\n"):
            client.sendall(b"AGREE_UNIX_FD\r\n")
            line = b""
    parser, serial = Parser(), 0
    while data := client.recv(4096):
        parser.add_data(data)
        while (message := parser.get_next_message()) is not None:
            serial += 1
            hello = message.header.fields[HeaderFields.member] == "Hello"
            answer = new_method_return(message, "s", (":1.7",)) if hello else reply(message)
            client.sendall(answer.serialise(serial))
