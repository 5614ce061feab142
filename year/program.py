"""Historon under a clock that leaps: the service in a process of its own, and commands beside it.

Both are forked from this process, which has loaded what they use of others and uses nothing of it. The service runs until
an instant that it is given, then stands still while others do something, and goes on to the next. It may be killed in
between.
"""

import asyncio
import gc
import importlib
import mmap
import os
import select
import signal
import struct
import sys
import threading
import time
import traceback
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any, NoReturn

from tests.leaping import InProcess, LeapingLoop
from torture.victim import arm, watch_steps

import year.breaking
from historon.cli.app import App
from historon.cli.main import run
from year.devices import Devices
from year.disks import Disk, arm_disk

for _package in ("asyncssh", "httpx", "jinja2", "rich.console", "rich.syntax", "rich.table", "rich.text"):
    importlib.import_module(_package)  # once, and not in each process

__all__ = ["NOT_ARMED", "Armed", "EndedError", "Program", "Said"]

_PATIENCE_S = 600  # real seconds without a sign of the service: then something hangs
_TICK = timedelta(minutes=30)
_SPACES = struct.Struct("!dB")
_ORDER = struct.Struct("!dddqq")  # until when, how wrong the clock is, from when on steps and turns count to a death
_NEVER = 2**62


class EndedError(Exception):
    """The service has ended though nobody asked it to: with this exit code (negative: a signal), at this instant."""

    def __init__(self, code: int, at: datetime) -> None:
        super().__init__(f"it ended with {code} at {at}")
        self.code, self.at = code, at


@dataclass(frozen=True)
class Said:
    """What a command said, and how it ended."""

    code: int
    out: str
    err: str


@dataclass(frozen=True)
class Armed:
    """A death that is prepared: at the so-manyth step (see torture.victim) or turn of the event loop after an instant."""

    after: datetime
    step: int = _NEVER
    turn: int = _NEVER


NOT_ARMED = Armed(datetime.max.replace(tzinfo=UTC))
_AS_BEFORE = Armed(datetime.max.replace(tzinfo=UTC), step=-1)


class _Shared:
    """What both processes see at any moment: the service's instant, and how the disk behaves."""

    def __init__(self) -> None:
        self._map = mmap.mmap(-1, _SPACES.size)

    @property
    def leapt(self) -> float:
        return float(_SPACES.unpack(self._map[: _SPACES.size])[0])

    @leapt.setter
    def leapt(self, leapt: float) -> None:
        self._map[:8] = struct.pack("!d", leapt)

    @property
    def disk(self) -> Disk:
        return Disk(self._map[8])

    @disk.setter
    def disk(self, disk: Disk) -> None:
        self._map[8] = disk.value


@dataclass
class Program:
    """The program in its folder. `broken` names the old faults that are brought back for trial (see year.breaking)."""

    home: Path
    devices: Devices
    health_port: int
    broken: Sequence[str] = ()
    skew: timedelta = timedelta()  # by how much this machine's clock is wrong
    disk: Disk = Disk.WELL
    armed: Armed | None = None
    _pid: int = 0
    _began: datetime | None = None
    _shared: _Shared = field(default_factory=_Shared)
    _talk: tuple[int, int] = (-1, -1)

    @property
    def runs(self) -> bool:
        """Whether the service runs."""
        return self._pid != 0

    @property
    def pid(self) -> int:
        """The service's process."""
        return self._pid

    def begin(self, at: datetime) -> None:
        """Start the service."""
        (its_in, ours_out), (ours_in, its_out) = os.pipe(), os.pipe()
        self._began, self._shared.leapt, self._shared.disk = at, 0.0, self.disk
        self._pid = os.fork()
        if self._pid == 0:
            os.close(ours_in)
            os.close(ours_out)
            serving = _Serving(self, at, (its_in, its_out))
            _be_the_program(self.home, serving.arguments, serving.run)
        os.close(its_in)
        os.close(its_out)
        self._talk = ours_in, ours_out

    def until(self, at: datetime) -> None:
        """Let the service run until an instant, and stand still there. EndedError when it ends before that."""
        assert self._began is not None
        self._shared.disk = self.disk
        self._order((at - self._began).total_seconds())
        if not select.select([self._talk[0]], [], [], _PATIENCE_S)[0]:
            os.kill(self._pid, signal.SIGABRT)
        if not os.read(self._talk[0], 1):
            raise EndedError(self._gone(), self._began + timedelta(seconds=self._shared.leapt))

    def end(self) -> int:
        """Ask the service to end, as SIGTERM does, and wait for that: its exit code."""
        os.kill(self._pid, signal.SIGTERM)
        self._order(float("inf"))
        return self._gone()

    def _order(self, until: float) -> None:
        armed, self.armed = self.armed or _AS_BEFORE, None
        assert self._began is not None
        after = (armed.after - self._began).total_seconds()
        with suppress(BrokenPipeError):
            os.write(self._talk[1], _ORDER.pack(until, self.skew.total_seconds(), after, armed.step, armed.turn))

    def kill(self) -> None:
        """Kill the service where it stands."""
        os.kill(self._pid, signal.SIGKILL)
        self._gone()

    def _gone(self) -> int:
        code = _code_of(self._pid)
        for pipe in self._talk:
            os.close(pipe)
        self._pid = 0
        return code

    def command(self, arguments: Sequence[str], at: datetime, *, dying_at: int | None = None) -> Said:
        """Run a command at an instant, as somebody at a shell would, piped; time stands still meanwhile.

        It dies at a step (see torture.victim) where that is said.
        """
        (out, its_out), (err, its_err) = os.pipe(), os.pipe()
        pid = os.fork()
        if pid == 0:
            os.dup2(its_out, 1)
            os.dup2(its_err, 2)
            for pipe in (out, err, its_out, its_err):
                os.close(pipe)
            _be_the_program(
                self.home, arguments, partial(_run_command, self, at, list(arguments), dying_at), piped=True
            )
        os.close(its_out)
        os.close(its_err)
        written, complained, said = bytearray(), bytearray(), {out, err}
        while said:
            for pipe in select.select([*said], [], [])[0]:
                piece = os.read(pipe, 2**16)
                if pipe == out:
                    written += piece
                else:
                    complained += piece
                if not piece:
                    os.close(pipe)
                    said.discard(pipe)
        return Said(_code_of(pid), written.decode("utf-8", "replace"), complained.decode("utf-8", "replace"))


def _code_of(pid: int) -> int:
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])


# ---- in the other processes ------------------------------------------------------------------------------------------


class _Loop(LeapingLoop):
    """A loop beside which simulated devices work, and programs of this machine."""

    before: Callable[["_Loop"], Any] | None = None
    leaping: Callable[[float], None] = staticmethod(lambda _: None)

    def __init__(self) -> None:
        super().__init__()
        self._programs: list[Any] = []
        self._at_rest = 0

    def run_until_complete(self, future: Any) -> Any:
        before, self.before = self.before, None
        if before is not None:
            super().run_until_complete(before(self))
            selector: Any = self._selector  # type: ignore[attr-defined]
            self._at_rest = len(selector.get_map())
        return super().run_until_complete(future)

    def linger(self) -> list[Any]:
        """See LeapingLoop: programs take real time, and what was sent on loopback may need a moment."""
        self._programs = [one for one in self._programs if one.get_returncode() is None]
        if self._programs:
            return self.select(0.05) or self.linger()
        selector: Any = self._selector  # type: ignore[attr-defined]
        events: list[Any] = self.select(0.001) if len(selector.get_map()) > self._at_rest else []
        return events

    async def _make_subprocess_transport(self, *given: Any, **named: Any) -> Any:
        made = await super()._make_subprocess_transport(*given, **named)  # type: ignore[misc]
        self._programs.append(made)
        return made

    def _run_once(self) -> None:
        super()._run_once()  # type: ignore[misc]
        self.leaping(self.leapt)


class _Policy(asyncio.DefaultEventLoopPolicy):
    def __init__(self, make: Callable[[], _Loop]) -> None:
        super().__init__()
        self._make = make

    def new_event_loop(self) -> Any:
        return self._make()


class _Serving:
    """The service's process: goes from one instant to the next as it is ordered, and may have to die in between."""

    def __init__(self, program: Program, began: datetime, talk: tuple[int, int]) -> None:
        self._program, self._began, self._talk = program, began, talk
        self._shared = program._shared
        self._skew = program.skew.total_seconds()
        self._after, self._step, self._turn = float("inf"), _NEVER, _NEVER
        self._loop = _Loop()
        self._attending: asyncio.Task[None] | None = None
        self.arguments = ["serve", "--port", str(program.health_port)]

    def run(self) -> int:
        """The program's exit code."""
        self._loop.before, self._loop.leaping = self._before, self._leapt
        _patch(self._program, lambda: self._shared.disk)
        watch_steps(self._passing)
        asyncio.set_event_loop_policy(_Policy(lambda: self._loop))
        return run(self.arguments, App(clock=self._clock))

    def _clock(self) -> datetime:
        return self._began + timedelta(seconds=self._loop.leapt + self._skew)

    async def _before(self, loop: _Loop) -> None:
        await self._program.devices.refresh()
        self._attending = loop.create_task(self._attend())

    async def _attend(self) -> None:
        """Go on to an instant, and stand still there until the next order comes."""
        while order := os.read(self._talk[0], _ORDER.size):
            at, self._skew, after, step, turn = _ORDER.unpack(order)
            if step >= 0:
                self._after, self._step, self._turn = after, step, turn
            await self._program.devices.refresh()
            if at == float("inf"):
                return
            await asyncio.sleep(at - self._loop.leapt)
            os.write(self._talk[1], b".")

    def _leapt(self, leapt: float) -> None:
        self._shared.leapt = leapt
        if leapt >= self._after:
            self._turn -= 1
            if self._turn < 0:
                os.kill(os.getpid(), signal.SIGKILL)

    def _passing(self, _what: str) -> None:
        if self._loop.leapt >= self._after:
            self._step -= 1
            if self._step < 0:
                os.kill(os.getpid(), signal.SIGKILL)


def _run_command(program: Program, at: datetime, arguments: list[str], dying_at: int | None) -> int:
    loops: list[_Loop] = []  # a push runs several, one after another

    def make() -> _Loop:
        loops.append(_Loop())
        return loops[-1]

    _patch(program, lambda: program.disk)
    asyncio.set_event_loop_policy(_Policy(make))
    if dying_at is not None:
        arm(dying_at, program.home.parent / "died")

    def clock() -> datetime:
        return at + program.skew + timedelta(seconds=sum(loop.leapt for loop in loops))

    return run(arguments, App(clock=clock))


def _patch(program: Program, disk: Callable[[], Disk]) -> None:
    """What the program is given in place of what takes real time; and old faults, where they are tried."""
    for name in program.broken:
        year.breaking.OLD_FAULTS[name]()
    service: Any = importlib.import_module("historon.timetable.service")
    service.Service = partial(service.Service, tick=_TICK, lease=_TICK * 3, workers=InProcess())
    collecting: Any = importlib.import_module("historon.api.collecting")
    collecting.Workers = InProcess
    arm_disk(disk)


def _be_the_program(home: Path, arguments: Sequence[str], work: Callable[[], int], *, piped: bool = False) -> NoReturn:
    gc.freeze()
    os.chdir(home)
    os.environ.clear()
    os.environ.update({"PATH": "/usr/local/bin:/usr/bin:/bin", "HOME": str(home)})
    time.tzset()
    sys.argv = ["historon", *arguments]
    if not piped:
        log = os.open(home.parent / "log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        os.dup2(log, 1)
        os.dup2(log, 2)
    code = 1
    try:
        code = work()
    except BaseException:
        traceback.print_exc()
    threading._shutdown()  # type: ignore[attr-defined]
    with suppress(OSError, ValueError):
        sys.stdout.flush()
        sys.stderr.flush()
    os._exit(code)
