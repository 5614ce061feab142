"""Work for workers: in a module of its own, as each new worker imports the one that its work is in."""

import os
import pickle
import re
import signal
import time
from collections.abc import Iterator
from typing import IO


def counts(number: int, _files: list[IO[bytes]]) -> Iterator[int]:
    yield from range(number)


def labours(seconds: float, _files: list[IO[bytes]]) -> Iterator[str]:
    """Work for so many seconds of processor time."""
    until = time.process_time() + seconds
    while time.process_time() < until:
        pass
    yield "done"


def reads(files: list[IO[bytes]]) -> Iterator[bytes]:
    yield from (file.read() for file in files)


def fileno_count(files: list[IO[bytes]]) -> Iterator[int]:
    yield from (file.fileno() for file in files)


def grows(_files: list[IO[bytes]]) -> Iterator[str]:
    yield "begun"
    held = [bytes(2**28) for _ in range(40)]
    yield f"{len(held)}"


def raises(_files: list[IO[bytes]]) -> Iterator[str]:
    yield "begun"
    raise LookupError("no part of that kind")


def crashes(_files: list[IO[bytes]]) -> Iterator[str]:
    yield "begun"
    os.kill(os.getpid(), signal.SIGSEGV)


def hangs(_files: list[IO[bytes]]) -> Iterator[str]:
    yield "begun"
    re.match(r"(a+)+$", "a" * 64 + "b")


class Ran:
    """What would run code where it is read, if it were read as a pickle."""

    def __reduce__(self) -> tuple[object, tuple[str]]:
        return os.system, ("touch /tmp/historon-was-taken-over",)


def pickles(_files: list[IO[bytes]]) -> Iterator[bytes]:
    yield pickle.dumps(Ran())
    yield Ran()  # type: ignore[misc]


def lies(_files: list[IO[bytes]]) -> Iterator[str]:
    yield "no number"


class Named(str):
    """A text of a class of its own."""


def patterns(_files: list[IO[bytes]]) -> Iterator[str]:
    yield Named("^a")
