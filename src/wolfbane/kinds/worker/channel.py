"""The worker's end of the channel: JSON Lines over a socket, protected from the tests."""

from __future__ import annotations

import fcntl
import json
import json.encoder
import os
import resource
import socket
import sys
import threading

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Callable, Dict, Iterator, Optional, Tuple

    Message = Dict[str, Any]
else:
    Message = dict

PROTOCOL = 1
_MOST_HELD = 50
"""Messages that are sent together: Wolfbane processes them while the worker creates more."""


def _make_encoder() -> Callable[[Message], str]:
    """Like ``json.dumps``, but without creating the encoder again, which takes longer than its
    work.

    The interpreter may lack the C encoder.
    """
    make = json.encoder.c_make_encoder  # type: ignore[attr-defined]
    if make is None:
        return json.dumps
    plain = json.JSONEncoder()
    quoted = json.encoder.encode_basestring_ascii
    encode = make(None, plain.default, quoted, None, ":", ",", False, False, True)
    return lambda message: "".join(encode(message, 0))


_encoded = _make_encoder()
_getpid, _fstat, _exit = os.getpid, os.fstat, os._exit
"""A test may replace these functions while it runs and sends messages."""


class Channel:
    """Connects to the address in ``WOLFBANE_CHANNEL`` and says hello with the one-time token.

    A test may close or reuse file descriptors that it does not own: every send first checks whether
    the socket is still the same, and otherwise connects again. A forked child that returns into the
    runner is ended and sends nothing.
    """

    def __init__(self, runtime: str) -> None:
        host, _, port = os.environ.pop("WOLFBANE_CHANNEL").rpartition(":")
        self._place = (host, int(port))
        self._hello = {
            "type": "hello",
            "protocol": PROTOCOL,
            "token": os.environ.pop("WOLFBANE_TOKEN"),
            "runtime": runtime,
        }
        self._pid = _getpid()
        self._lock = threading.RLock()
        self._held: list[str] = []
        self.prompt = False
        self._socket_type = socket.socket
        self._connect()

    def _connect(self) -> None:
        connection = self._socket_type(socket.AF_INET, socket.SOCK_STREAM)
        connection.connect(self._place)
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        # Away from the low numbers that tests close and compare.
        most = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
        lowest = min(200, max(most - 10, 3))
        high = fcntl.fcntl(connection.fileno(), fcntl.F_DUPFD_CLOEXEC, lowest)
        connection.close()
        self._socket = self._socket_type(socket.AF_INET, socket.SOCK_STREAM, fileno=high)
        self._identity = _identity(high)
        self._socket.sendall(_line(self._hello))

    def fileno(self) -> int:
        """The descriptor for requests, for use in an event loop."""
        return self._socket.fileno()

    def send(self, message: Message) -> None:
        """Send one message now, after all delayed messages."""
        if _getpid() != self._pid:
            _exit(70)
        with self._lock:
            self._held.append(_encoded(message))
            data = ("\n".join(self._held) + "\n").encode()
            self._held = []
            try:
                if self._identity != _identity(self._socket.fileno()):
                    raise OSError("the channel's descriptor was closed")
                self._socket.sendall(data)
            except OSError:
                self._socket.detach()
                self._connect()
                self._socket.sendall(data)

    def hold(self, message: Message) -> None:
        """Send a message together with the next one: saves a system call for each test.

        With ``prompt``, it is sent immediately.
        """
        if self.prompt:
            self.send(message)
            return
        if _getpid() != self._pid:
            _exit(70)
        if len(self._held) >= _MOST_HELD:
            self.send(message)
            return
        with self._lock:  # a thread may say meanwhile that all goes on
            self._held.append(_encoded(message))

    def requests(self) -> Iterator[Message]:
        """The requests from Wolfbane, until it closes the channel."""
        buffer = b""
        while True:
            while b"\n" in buffer:
                line, _, buffer = buffer.partition(b"\n")
                yield json.loads(line)
            chunk = self._receive()
            if not chunk:
                # The system closes it with the process. Python would warn of an open socket, and
                # import what describes where it was made: a quarter of a small worker's time.
                self._socket.detach()
                return
            buffer += chunk

    def _receive(self) -> bytes:
        try:
            return self._socket.recv(1 << 16)
        except OSError:
            return b""


def connect(runtime: str) -> Tuple[Channel, Message, Iterator[Message]]:
    """A channel, the options from Wolfbane, and the requests that follow.

    If Wolfbane closes the channel immediately, the worker ends.
    """
    channel = Channel(runtime)
    requests = channel.requests()
    options = next(requests, None)
    if options is None:
        sys.exit(0)
    channel.prompt = bool(options.get("prompt"))
    return channel, options, requests


def _identity(descriptor: int) -> Optional[tuple[int, int]]:
    try:
        status = _fstat(descriptor)
    except OSError:
        return None
    return status.st_dev, status.st_ino


def _line(message: Message) -> bytes:
    return json.dumps(message).encode() + b"\n"
