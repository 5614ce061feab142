"""Who writes a store: one estate file on one machine, and no other until a person says so.

A copied estate that points at the store of the first one would prune it, and its exports would become last good
versions there; two machines with one folder of files each get half of them.
"""

import hashlib
import hmac
import socket
from collections.abc import Sequence
from pathlib import Path

import msgspec

from historon.base.errors import StoreError
from historon.store.interface import Memory
from historon.store.records import ESTATE

__all__ = ["Writer", "admit_writer", "check_writer", "stranger", "writers_of"]

_TOPIC = "writers"
_MACHINE_ID = Path("/etc/machine-id")  # machine-id(5)
_HINT = "historon store --moved, if this estate replaces it; historon store --copied, if this is a second one"


class Writer(msgspec.Struct, frozen=True):
    """An estate file of a machine; `machine` stands for its machine-id(5), and is empty where it has none."""

    estate: str
    machine: str
    host: str

    @classmethod
    def here(cls, file: Path) -> "Writer":
        """The estate file, on this machine."""
        try:
            written = _MACHINE_ID.read_bytes().strip()
        except OSError:
            written = b""
        # machine-id(5) asks that it be shown to nobody, and hashed with a key of the application.
        machine = hmac.new(b"historon writer", written, hashlib.sha256).hexdigest()[:16] if written else ""
        return cls(str(file.resolve()), machine, socket.gethostname())

    def is_same(self, other: "Writer") -> bool:
        """Whether both may be one: a machine that has no name of its own may be any."""
        return self.estate == other.estate and (self.machine == other.machine or not self.machine or not other.machine)

    def __str__(self) -> str:
        return f"{self.estate} on {self.host}"


def writers_of(store: Memory) -> list[Writer]:
    """Who may write a store; nobody for one that was never written to. StoreError."""
    text = store.recall(ESTATE, _TOPIC)
    try:
        return msgspec.json.decode(text, type=list[Writer]) if text else []
    except msgspec.DecodeError as exc:
        raise StoreError(
            f"the record of who writes this store is unreadable: {exc}", hint="historon store --moved"
        ) from exc


def stranger(store: Memory, file: Path) -> str:
    """Why this estate file may not write to a store, in words; empty where it may. StoreError."""
    return _why_not(writers_of(store), Writer.here(file))


def _why_not(known: Sequence[Writer], me: Writer) -> str:
    if not known or any(one.is_same(me) for one in known):
        return ""
    return f"this store belongs to {' and '.join(map(str, known))}; this is {me}"


def check_writer(store: Memory, file: Path) -> None:
    """Take a store that nobody wrote to yet for one's own. Raises StoreError where it is somebody else's."""
    known, me = writers_of(store), Writer.here(file)
    if not known and not store.swap(ESTATE, _TOPIC, "", msgspec.json.encode([me]).decode()):
        known = writers_of(store)  # another one was faster
    why = _why_not(known, me)
    if why:
        raise StoreError(f"{why}; nothing was changed", hint=_HINT)


def admit_writer(store: Memory, file: Path, *, beside: bool) -> Sequence[Writer]:
    """Let this estate file write to a store from now on, instead of all others, or beside them. StoreError.

    Returns who could until now.
    """
    try:
        before = writers_of(store)
    except StoreError:
        before = []
    me = Writer.here(file)
    known = [*(one for one in before if beside and not one.is_same(me)), me]
    store.remember(ESTATE, _TOPIC, msgspec.json.encode(known).decode())
    return before
