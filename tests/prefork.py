"""The built program, started by forking a process that has its modules loaded: as a start of its own, in a tenth of the time.

Each start is a process with its own arguments, folder, environment, files and end, which runs the program's entry point.
"""

import atexit
import gc
import importlib
import os
import pickle
import pkgutil
import select
import selectors
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NoReturn

__all__ = ["Prefork"]

_PATIENCE_S = 300
_LENGTH = struct.Struct("!Q")
_ESTATE = """
[estate]
name = "Warm"
[channels.record]
kind = "file"
path = "notices.jsonl"
[procedures.files]
over = "local"
steps = [{ pull = "data", as = "data" }, { keep = ["true"], as = "true" }]
noise = ['^! saved ']
[[sources]]
name = "files"
procedure = "files"
max_age = "1d"
"""
_LIBRARIES = ("asyncssh", "lxml.etree", "lxml.html", "httpx", "re2", "zstandard", "jinja2", "asyncio.subprocess")


class Prefork:
    """The asker's side; the process is started when it is first needed."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._talk: socket.socket | None = None

    def run(
        self,
        arguments: Sequence[str],
        cwd: Path,
        environment: Mapping[str, str],
        first: Callable[[], object] | None = None,
    ) -> tuple[int, bytes, bytes]:
        """Run the program to its end, piped, with nothing to read: its exit code (negative: a signal), output, errors.

        `first` is called in its process before it begins.
        """
        talk = self._ready()
        task = pickle.dumps(([*arguments], str(cwd), dict(environment), first))
        (out, its_out), (err, its_err) = os.pipe(), os.pipe()
        socket.send_fds(talk, [_LENGTH.pack(len(task))], [its_out, its_err])
        talk.sendall(task)
        os.close(its_out)
        os.close(its_err)
        said = _read_all(out, err)
        (status,) = struct.unpack("!i", _exactly(talk, 4))
        return os.waitstatus_to_exitcode(status), *said

    def _ready(self) -> socket.socket:
        if self._talk is None:
            self._talk, its = socket.socketpair()
            with its:
                command = [sys.executable, "-c", f"from tests.prefork import keep; keep({its.fileno()})"]
                self._process = subprocess.Popen(
                    command, cwd=Path(__file__).parent.parent, pass_fds=[its.fileno()], stdin=subprocess.DEVNULL
                )
        return self._talk

    def close(self) -> None:
        """End it."""
        if self._talk is not None and self._process is not None:
            self._talk.close()
            self._process.wait()
        self._talk = None


def _read_all(*pipes: int) -> tuple[bytes, bytes]:
    said = {pipe: bytearray() for pipe in pipes}
    with selectors.DefaultSelector() as selector:
        for pipe in pipes:
            selector.register(pipe, selectors.EVENT_READ)
        while selector.get_map():
            ready = selector.select(_PATIENCE_S)
            if not ready:
                raise TimeoutError("somebody still holds the program's output")
            for key, _ in ready:
                piece = os.read(key.fd, 2**16)
                said[key.fd] += piece
                if not piece:
                    selector.unregister(key.fd)
                    os.close(key.fd)
    out, err = said.values()
    return bytes(out), bytes(err)


def _exactly(talk: socket.socket, length: int) -> bytes:
    received = b""
    while len(received) < length:
        piece = talk.recv(length - len(received))
        if not piece:
            raise EOFError("the process that starts programs has ended")
        received += piece
    return received


# ---- in the other process --------------------------------------------------------------------------------------------


def keep(number: int) -> None:
    """Start programs until the asker is gone."""
    import historon

    for module in pkgutil.walk_packages(historon.__path__, "historon."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for library in _LIBRARIES:
        importlib.import_module(library)
    _warm()
    gc.collect()
    gc.freeze()
    talk = socket.socket(fileno=number)
    while True:
        head, files, _, _ = socket.recv_fds(talk, _LENGTH.size, 2)
        if not head:
            return
        arguments, cwd, environment, first = pickle.loads(_exactly(talk, *_LENGTH.unpack(head)))  # noqa: S301 (from the tests)
        child = os.fork()
        if child == 0:
            talk.close()
            _be_the_program(arguments, cwd, environment, files, first)
        for file in files:
            os.close(file)
        talk.sendall(struct.pack("!i", _ended(child)))


def _warm() -> None:
    """Make what each program would make once: tables, expressions, and how tables of an estate are read and handed on."""
    from historon.estate import read_estate
    from historon.insight import Weights
    from historon.versions import Masks

    estate = read_estate(Path("historon.toml"), _ESTATE)
    pickle.dumps(estate.procedures, protocol=5)

    Masks(key=b"").hide(b"password a\nauthorization: basic a\n")
    Weights().of_line("permit any")


def _ended(child: int, within: float = 120) -> int:
    """Its status; one that does not end is killed."""
    watch = os.pidfd_open(child)
    try:
        if not select.select([watch], [], [], within)[0]:
            os.kill(child, signal.SIGKILL)
    finally:
        os.close(watch)
    return os.waitpid(child, 0)[1]


def _be_the_program(
    arguments: list[str], cwd: str, environment: dict[str, str], files: list[int], first: Callable[[], object] | None
) -> NoReturn:
    os.dup2(files[0], 1)
    os.dup2(files[1], 2)
    for file in files:
        os.close(file)
    os.chdir(cwd)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    sys.argv = [str(Path(sys.executable).with_name("historon")), *arguments]
    code = 1
    try:
        if first is not None:
            first()
        importlib.import_module("historon.cli.main").main()
        code = 0
    except SystemExit as exc:
        code = exc.code if isinstance(exc.code, int) else int(exc.code is not None)
    except BaseException:
        sys.excepthook(*sys.exc_info())
    # As an interpreter ends, but for taking apart what it would share with the next program.
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    with suppress(OSError, ValueError):
        sys.stdout.flush()
        sys.stderr.flush()
    os._exit(code)
