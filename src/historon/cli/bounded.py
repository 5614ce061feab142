"""Bounds of time and memory for commands that look into stored exports: what a device sent is not to be trusted later.

The command runs in a process of its own, in which each version that is looked at has so many seconds of processor time,
however long somebody reads what is printed meanwhile. When one takes more, the command begins again without it.
"""

import math
import os
import signal
from collections.abc import Sequence
from contextlib import suppress
from types import FrameType

from historon.base.bounds import TooHeavyError, watch
from historon.base.errors import ExitCode

__all__ = ["give_up_memory", "in_bounds"]

_SECONDS = 30  # of processor time for one version, as in a round
_MEMORY = 2 * 2**30  # bytes of address space
_MOST = 8  # versions that are given up, each after its time
_OUT_OF_MEMORY = 75
_ENDED_BY_IT = (signal.SIGXCPU, signal.SIGKILL, signal.SIGSEGV, signal.SIGBUS, signal.SIGABRT)

_waited_for: list[int] = []  # the pipe to the process that waits for this one


def give_up_memory() -> None:
    """End this process, where it is bounded, as its memory is used up."""
    if _waited_for:
        os._exit(_OUT_OF_MEMORY)


def in_bounds() -> int | None:
    """Go on in a bounded process, and return None there; here the exit code of it, once it has ended.

    Where a system cannot fork it goes on without bounds. Raises TooHeavyError.
    """
    if not hasattr(os, "fork"):
        return None
    given_up: dict[str, str] = {}
    while True:
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            _waited_for[:] = [writing]
            _limit_memory()
            _allow_time()
            watch(_begin_on, given_up)
            return None
        os.close(writing)
        status, last = _wait(child, reading)
        why = _why(status)
        if why is None:
            return os.waitstatus_to_exitcode(status) if os.WIFEXITED(status) else 128 + os.WTERMSIG(status)
        if not last or last in given_up or len(given_up) >= _MOST:
            raise TooHeavyError(last or "the store", why)
        given_up[last] = why


def _begin_on(version: str) -> None:
    """Say it to the process that waits; the time of this version begins."""
    try:
        os.write(_waited_for[0], version.encode("utf-8", "surrogateescape") + b"\n")
    except OSError:
        os._exit(ExitCode.INTERRUPTED)  # nobody waits any more
    _allow_time()


def _wait(child: int, reading: int) -> tuple[int, str]:
    """How the other process ended, and which version it looked at last. What asks this one to end is passed on."""

    def pass_on(number: int, _: FrameType | None) -> None:
        with suppress(ProcessLookupError):
            os.kill(child, number)

    passed: Sequence[signal.Signals] = (signal.SIGTERM, signal.SIGHUP)
    before = {number: signal.signal(number, pass_on) for number in passed}
    before[signal.SIGINT] = signal.signal(signal.SIGINT, signal.SIG_IGN)  # a terminal sends it to both
    try:
        said = b""
        while piece := os.read(reading, 2**16):
            said = (said + piece)[-(2**16) :]
        _, status = os.waitpid(child, 0)
    finally:
        os.close(reading)
        for number, handler in before.items():
            signal.signal(number, handler)
    names = said.decode("utf-8", "surrogateescape").splitlines()
    return status, names[-1] if names else ""


def _why(status: int) -> str | None:
    """Why the other process did not come to its end; None where it did, or somebody ended it."""
    if os.WIFEXITED(status):
        return "needs too much memory" if os.WEXITSTATUS(status) == _OUT_OF_MEMORY else None
    if os.WTERMSIG(status) == signal.SIGXCPU:
        return f"needs more than {_SECONDS} s"
    return "needs too much memory, or crashes" if os.WTERMSIG(status) in _ENDED_BY_IT else None


def _limit_memory() -> None:
    import resource

    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, resource.getrlimit(resource.RLIMIT_AS)[1]))
        resource.setrlimit(resource.RLIMIT_CORE, (0, resource.getrlimit(resource.RLIMIT_CORE)[1]))


def _allow_time() -> None:
    import resource

    used = resource.getrusage(resource.RUSAGE_SELF)
    limit = math.ceil(used.ru_utime + used.ru_stime) + _SECONDS
    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_CPU, (limit, resource.getrlimit(resource.RLIMIT_CPU)[1]))
