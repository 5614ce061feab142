"""Work on what is not to be trusted, in processes that can be ended at any moment: bounded in time and memory.

A keeper process is forked while this one has a single thread, or else started again; it forks the workers, so that one
that had to be ended is replaced in a few milliseconds. What is said between them are pickles: a function and what it
is given. Back comes whatever the function yields, piece by piece, as plain values of a type that the asker names, as
whoever looks at foreign bytes may have been taken over by them. Exceptions come back as text.
"""

import asyncio
import os
import pickle
import signal
import socket
import struct
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import IO, Any, NoReturn

import msgspec

__all__ = ["Done", "Workers", "keep_workers"]

QUICK_S = 2.0  # after which a task moves to the lane for slow ones, where it keeps nobody waiting
SLOW_S = 30.0  # after which it is given up
_MEMORY = 2 * 2**30  # bytes of address space
_TASKS = 1000  # after which a worker is replaced, as memory is lost little by little
_GRACE_S = 5.0  # after its limit a worker whose asker is gone ends by itself
_HEAD = struct.Struct("!QId")  # the length of what follows, how many files come along, and seconds
_REPLY = struct.Struct("!?Q")  # whether more comes, and the length of what follows
_MOST_FILES = 200  # that go over at once (SCM_MAX_FD is 253)

Work = Callable[..., Iterator[Any]]


@dataclass
class Done:
    """What a task gave before it ended; `trouble` says why it did not come to its end, empty where it did."""

    pieces: list[Any] = field(default_factory=list)
    trouble: str = ""


class Workers:
    """Lanes of one worker each: some for what is quick, and one for what turned out to be slow.

    What is `known` to be slow, by its key, waits in that lane from the beginning, until it is quick again.
    """

    def __init__(self, lanes: int | None = None) -> None:
        self._keeper = _Keeper()
        number = lanes or max(2, min(4, os.cpu_count() or 1))
        self._quick = [_Worker(self._keeper) for _ in range(number)]
        self._slow = _Worker(self._keeper)
        self._free: asyncio.Queue[_Worker] | None = None
        self._slow_turn: asyncio.Lock | None = None
        self.known: set[str] = set()

    def start(self) -> None:
        """Make ready, best while there is one thread: then it takes no time. It may also be left to the first task."""
        self._keeper.start()

    @property
    def lost(self) -> int:
        """How many workers had to be ended, or ended by themselves in the middle of a task."""
        return sum(worker.lost for worker in (*self._quick, self._slow))

    async def run(self, key: str, work: Work, *given: Any, files: Sequence[IO[bytes]] = (), reply: Any = Any) -> Done:
        """Let a worker do `work`, a function of some module, with what is given and then a list of the files.

        It yields what is to come back, each of the type `reply` (see msgspec). OSError when no worker can be had. Where
        a system cannot fork, a thread does it, without limits.
        """
        if not hasattr(os, "fork"):
            return await asyncio.to_thread(lambda: Done(list(work(*given, list(files)))))
        task = _Task(pickle.dumps((work, given), protocol=5), [file.fileno() for file in files], reply)
        if self._free is None or self._slow_turn is None:
            self._free, self._slow_turn = asyncio.Queue(), asyncio.Lock()
            for worker in self._quick:
                self._free.put_nowait(worker)
        if key not in self.known:
            worker = await self._free.get()
            try:
                done = await worker.ask(task, QUICK_S)
            finally:
                self._free.put_nowait(worker)
            if done is not None:
                return done
            self.known.add(key)
        async with self._slow_turn:
            loop = asyncio.get_running_loop()
            began = loop.time()
            done = await self._slow.ask(task, SLOW_S)
            if loop.time() - began < QUICK_S / 2:
                self.known.discard(key)
        return done or Done(self._slow.pieces, f"it took more than {SLOW_S:g} s")

    def close(self) -> None:
        """End all workers."""
        for worker in (*self._quick, self._slow):
            worker.end()
        self._keeper.close()


@dataclass(frozen=True)
class _Task:
    payload: bytes
    files: list[int]
    reply: Any


class _Worker:
    """The asker's side of one worker, which is made when it is first needed."""

    def __init__(self, keeper: "_Keeper") -> None:
        self._keeper = keeper
        self._talk: socket.socket | None = None
        self._pid = 0
        self._tasks = 0
        self.lost = 0
        self.pieces: list[Any] = []

    async def ask(self, task: _Task, within: float) -> Done | None:
        """What became of a task; None when it was not done within so many seconds. A worker that is late is ended."""
        self.pieces = []
        try:
            async with asyncio.timeout(within):
                try:
                    talk = await self._ready()
                except (OSError, EOFError) as exc:
                    self.end()
                    why = exc.strerror if isinstance(exc, OSError) and exc.strerror else "it ended at once"
                    return Done(trouble=f"no process could be started to inspect it: {why}")
                return Done(self.pieces, await self._converse(talk, task, within))
        except TimeoutError:
            self._lose()
            return None
        except (OSError, EOFError, msgspec.DecodeError):
            self._lose()
            return Done(self.pieces, "the process that inspected it ended: it needed too much memory, or crashed")
        except asyncio.CancelledError:
            self.end()
            raise

    def _lose(self) -> None:
        self.lost += 1
        self.end()

    async def _converse(self, talk: "socket.socket", task: _Task, within: float) -> str:
        """Hand a task over and collect what comes back, to its end; the answer is what went wrong, in words."""
        loop = asyncio.get_running_loop()
        head = _HEAD.pack(len(task.payload), len(task.files), within + _GRACE_S)
        await loop.sock_sendall(talk, head)
        for at in range(0, len(task.files), _MOST_FILES):
            socket.send_fds(talk, [b"f"], task.files[at : at + _MOST_FILES])
        await loop.sock_sendall(talk, task.payload)
        while True:
            more, length = _REPLY.unpack(await _received(talk, _REPLY.size))
            piece = await _received(talk, length)
            if not more:
                return msgspec.msgpack.decode(piece, type=str)
            self.pieces.append(msgspec.msgpack.decode(piece, type=task.reply))

    async def _ready(self) -> "socket.socket":
        if self._tasks >= _TASKS:
            self.end()
        if self._talk is None:
            self._talk = self._keeper.worker()
            self._talk.setblocking(False)
            self._pid = int.from_bytes(await _received(self._talk, 8))
            self._tasks = 0
        self._tasks += 1
        return self._talk

    def end(self) -> None:
        """End the worker, whatever it does."""
        if self._talk is not None:
            if self._pid:
                with suppress(ProcessLookupError, PermissionError):
                    os.kill(self._pid, signal.SIGKILL)
            self._talk.close()
        self._talk, self._pid = None, 0


async def _received(talk: "socket.socket", length: int) -> bytes:
    """So many bytes; EOFError when the other side ends before."""
    loop = asyncio.get_running_loop()
    received = bytearray()
    while len(received) < length:
        piece = await loop.sock_recv(talk, min(length - len(received), 2**20))
        if not piece:
            raise EOFError
        received += piece
    return bytes(received)


class _Keeper:
    """The process that forks workers, as seen from here."""

    def __init__(self) -> None:
        self._talk: socket.socket | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._pid = 0

    def start(self) -> None:
        """Fork it where nothing but this thread runs; otherwise start a program of its own."""
        if self._talk is not None or not hasattr(os, "fork"):
            return
        ours, its = socket.socketpair()
        with its:
            if sys.platform == "linux" and threading.active_count() == 1:
                self._pid = os.fork()
                if self._pid == 0:
                    ours.close()
                    keep_workers(its)
            else:
                command = [sys.executable, "-c", f"import historon.base.workers as w; w.keep_workers({its.fileno()})"]
                self._process = subprocess.Popen(command, pass_fds=[its.fileno()], stdin=subprocess.DEVNULL)
        self._talk = ours

    def worker(self) -> "socket.socket":
        """A new worker, to be talked to. OSError when there can be none."""
        self.start()
        ours, its = socket.socketpair()
        with its:
            assert self._talk is not None  # noqa: S101 (it was started)
            try:
                socket.send_fds(self._talk, [b"w"], [its.fileno()])
            except OSError:  # it has ended: somebody killed it
                self.close()
                self.start()
                socket.send_fds(self._talk, [b"w"], [its.fileno()])
        return ours

    def close(self) -> None:
        """Let it end."""
        if self._talk is not None:
            self._talk.close()
            self._talk = None
        if self._process is not None:
            self._process.wait()
            self._process = None
        if self._pid:
            with suppress(ChildProcessError):
                os.waitpid(self._pid, 0)
            self._pid = 0


# ---- in the other processes ------------------------------------------------------------------------------------------


def keep_workers(talk: "socket.socket | int") -> NoReturn:
    """Be the keeper, until the asker is gone."""
    if isinstance(talk, int):
        talk = socket.socket(fileno=talk)
    try:
        signal.set_wakeup_fd(-1)
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, signal.SIG_IGN)  # the asker decides when it is over
        _close_others({talk.fileno(), 2})
        while True:
            word, files, _, _ = socket.recv_fds(talk, 1, 1)
            _wait_for_ended(os.WNOHANG)
            if not word:
                break
            if os.fork() == 0:
                talk.close()
                _work(socket.socket(fileno=files[0]))
            os.close(files[0])
        _wait_for_ended()  # the asker's are gone too: they end by themselves
    finally:
        os._exit(0)


def _wait_for_ended(how: int = 0) -> None:
    """Wait for workers, so that the time they took is counted as their asker's (times(2))."""
    with suppress(ChildProcessError):
        while os.waitpid(-1, how)[0]:
            pass


def _close_others(kept: set[int]) -> None:
    """Let go of all files that came along from the asker: its connections end when it closes them, not later."""
    for number in map(int, os.listdir("/proc/self/fd") if os.path.isdir("/proc/self/fd") else range(3, 256)):
        if number not in kept:
            with suppress(OSError):
                os.close(number)


def _work(talk: "socket.socket") -> NoReturn:
    """Be a worker: do one task after the other, until the asker is gone."""
    try:
        signal.signal(signal.SIGALRM, signal.SIG_DFL)
        _limit_memory()
        talk.sendall(os.getpid().to_bytes(8))
        while True:
            length, number, seconds = _HEAD.unpack(_exactly(talk, _HEAD.size))
            files: list[int] = []
            while len(files) < number:
                word, more, _, _ = socket.recv_fds(talk, 1, _MOST_FILES)
                if not word:
                    raise EOFError
                files += more
            payload = _exactly(talk, length)
            signal.setitimer(signal.ITIMER_REAL, seconds)
            trouble = _do(talk, payload, [os.fdopen(one, "rb") for one in files])
            signal.setitimer(signal.ITIMER_REAL, 0)
            _say(talk, trouble, more=False)
    except (OSError, EOFError):
        pass  # the asker is gone
    finally:
        os._exit(0)


def _limit_memory() -> None:
    import resource

    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _do(talk: "socket.socket", payload: bytes, files: list[IO[bytes]]) -> str:
    try:
        work, given = pickle.loads(payload)  # noqa: S301 (from our own process)
        for piece in work(*given, files):
            _say(talk, piece, more=True)
    except OSError:
        raise
    except MemoryError:
        os._exit(0)  # the asker sees that it ended; whatever is left of it is not to be trusted
    except BaseException as exc:
        return f"{type(exc).__name__}: {exc}"[:500]
    finally:
        for file in files:
            file.close()
    return ""


def _say(talk: "socket.socket", piece: Any, *, more: bool) -> None:
    data = msgspec.msgpack.encode(piece, enc_hook=_plain)
    talk.sendall(_REPLY.pack(more, len(data)) + data)


def _plain(value: object) -> object:
    """A text or bytes of a class of its own, as what they are."""
    if isinstance(value, str):
        return str.__str__(value)
    if isinstance(value, bytes):
        return bytes(value)
    raise NotImplementedError(f"{type(value).__name__} cannot be handed over")


def _exactly(talk: "socket.socket", length: int) -> bytes:
    received = bytearray()
    while len(received) < length:
        piece = talk.recv(min(length - len(received), 2**20))
        if not piece:
            raise EOFError
        received += piece
    return bytes(received)
