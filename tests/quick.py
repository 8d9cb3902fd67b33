"""Start the program without its imports: a process that has made them forks for each call.

The program is started some two thousand times here, and its imports are most of the time of a
small call. Everything else is as it is for a user: a process of its own, with its own folder,
variables, streams and exit code. What an interpreter reads at its own start (``PYTHON...``) is not:
such calls, those that are about starting, and a tenth of the others use a new interpreter.
"""

from __future__ import annotations

import array
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

_LENGTH = 8
_APART = ("wolfbane.kinds.worker", "wolfbane.demo.harbour", "wolfbane.results.history.migrations")
"""What runs in other processes, or is no module to import."""
_LATER = (
    "alembic.context",
    "anyio._backends._asyncio",
    "dotenv.parser",
    "httpcore",
    "jsonpath_rfc9535",
    "jsonschema",
    "lxml.etree",
    "matplotlib.figure",
    "matplotlib.pyplot",
    "openapi_schema_validator",
    "openapi_spec_validator",
    "psutil",
    "pygments.lexers.agile",
    "rich.live",
    "rich.progress",
    "sqlalchemy.dialects.postgresql",
    "sqlalchemy.dialects.sqlite",
    "tomlkit",
    "yaml",
)
"""Libraries that the program imports only where it needs them."""


class Quick:
    """The process that forks; one call at a time."""

    def __init__(self) -> None:
        self._socket, theirs = socket.socketpair()
        command = [sys.executable, str(Path(__file__)), str(theirs.fileno())]
        self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()])
        theirs.close()

    def run(
        self,
        arguments: Sequence[str],
        folder: Path,
        environment: Mapping[str, str],
        typed: str,
        seconds: float,
    ) -> tuple[int, str, str]:
        """The exit code and both outputs of the program. Raises TimeoutExpired."""
        outputs = [os.memfd_create("out"), os.memfd_create("err")]
        given = os.memfd_create("in")
        os.write(given, typed.encode())
        os.lseek(given, 0, os.SEEK_SET)
        request = [list(arguments), str(folder), dict(environment)]
        _send(self._socket, request, [given, *outputs])
        os.close(given)
        child = _receive(self._socket)[0]
        self._socket.settimeout(seconds)
        try:
            code = _receive(self._socket)[0]
        except TimeoutError:
            os.kill(child, signal.SIGKILL)
            self._socket.settimeout(None)
            _receive(self._socket)
            raise subprocess.TimeoutExpired(list(arguments), seconds) from None
        finally:
            self._socket.settimeout(None)
            texts = [_text(output) for output in outputs]
        return code, texts[0], texts[1]

    def close(self) -> None:
        """End it."""
        self._socket.close()
        self._process.wait()


def _text(output: int) -> str:
    with os.fdopen(output, "rb") as file:
        file.seek(0)
        return file.read().decode("utf-8", "replace").replace("\r\n", "\n")


def _send(connection: socket.socket, value: object, descriptors: Sequence[int] = ()) -> None:
    data = json.dumps(value).encode()
    with_them = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", descriptors))]
    connection.sendmsg([len(data).to_bytes(_LENGTH)], with_them if descriptors else [])
    connection.sendall(data)


def _receive(connection: socket.socket) -> tuple[object, list[int]]:
    room = socket.CMSG_LEN(3 * array.array("i").itemsize)
    length, ancillary, _, _ = connection.recvmsg(_LENGTH, room)
    descriptors = array.array("i")
    for _, _, data in ancillary:
        descriptors.frombytes(data)
    if not length:
        raise EOFError
    size, parts = int.from_bytes(length), b""
    while len(parts) < size:
        parts += connection.recv(size - len(parts))
    return json.loads(parts), list(descriptors)


def serve(connection: socket.socket) -> None:
    """Import the program, then fork for each request until the other end closes."""
    import wolfbane

    for module in pkgutil.walk_packages(wolfbane.__path__, "wolfbane."):
        if not module.name.startswith(_APART) and not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in _LATER:
        importlib.import_module(name)
    _learn_types(msgspec.Struct)
    gc.collect()
    gc.freeze()
    while True:
        try:
            (arguments, folder, environment), descriptors = _receive(connection)
        except EOFError:
            return
        if "--on" in arguments:  # few calls do, and it takes longer than all else
            with contextlib.suppress(ImportError):
                importlib.import_module("distributed")
        child = os.fork()
        if child == 0:
            connection.close()
            _become(arguments, folder, environment, descriptors)
        for descriptor in descriptors:
            os.close(descriptor)
        _send(connection, child)
        _, status = os.waitpid(child, 0)
        _send(connection, os.waitstatus_to_exitcode(status))


def _learn_types(base: type) -> None:
    """Have the fields of all messages and settings looked at, else each fork does it again."""
    for kind in base.__subclasses__():
        _learn_types(kind)
        if kind.__module__.startswith("wolfbane."):
            with contextlib.suppress(TypeError, NameError):  # those are never read from JSON
                msgspec.json.Decoder(kind)


def _become(
    arguments: list[str], folder: str, environment: dict[str, str], descriptors: list[int]
) -> None:
    """Be the program: with these streams, in this folder."""
    for number, descriptor in enumerate(descriptors):
        os.dup2(descriptor, number)
    for descriptor in descriptors:
        os.close(descriptor)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = ["wolfbane", *arguments]
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", encoding="utf-8", buffering=1, closefd=False)  # noqa: SIM115
    from wolfbane.__main__ import main

    code = 1
    try:
        main()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, ValueError):
                stream.flush()
        os._exit(code)


if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))
