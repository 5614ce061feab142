"""A copy as objects: each content under its digest, the ledger, the estate's own files, and a head that names them.

Objects never change once they are there, so what is missing is all that is ever written; the head alone is replaced, in
one step, when everything that it names is there. docs/copies.md says what the objects hold.
"""

import hashlib
import json
import re
import secrets
import tempfile
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence, Set
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Any, Protocol

from historon.base.disk import scratch
from historon.base.errors import RefusedError, StoreError
from historon.base.quantities import size_text
from historon.copies.checking import compare_with_store, store_identity
from historon.copies.interface import Holdings
from historon.copies.places import check_plain_name, left_out
from historon.copies.removals import approval_of
from historon.estate import Estate, replace_file, settings_digest, settings_files
from historon.store import (
    LARGE,
    LEDGER,
    BareLedger,
    Copied,
    Damage,
    DamagedError,
    FolderStore,
    Kept,
    Part,
    Store,
    StoredPart,
    Verification,
    pack,
    unpack_pieces,
)

__all__ = ["HEAD", "SETTINGS", "ConflictError", "Objects", "fetch", "holdings", "update", "verify"]

_FORM = 1  # of what lies there; docs/copies.md
HEAD = "head.json"
_CONTENT, _LEDGER, _ESTATE = "contents/", "ledgers/", "estates/"
_NAME = re.compile(r"(ledgers|estates)/[0-9a-f]{64}")
_LEVEL = 9
_MOST_SETTINGS = 64 * 2**20  # bytes of the estate's own files
_MOST_LEDGER = 2**38
_PIECE = 2**20
_AT_ONCE = 16  # contents that are on their way together
SETTINGS = "estate"  # the folder in a store's copy that the estate's files lie in


class ConflictError(StoreError):
    """Somebody else is at the same copy: what they did, or do, is said in words."""

    def __init__(self, place: str, what: str) -> None:
        super().__init__(f"{place}: another Historon {what}", hint="nothing is lost; let only one Historon update it")


class Objects(Protocol):
    """Where objects lie. Every call raises StoreError or OutsideError in words when it cannot be done."""

    place: str

    def names(self, prefix: str) -> dict[str, int]:
        """The names below a prefix, which ends with a slash, and the bytes that each has."""

    def read(self, name: str) -> Iterator[bytes]:
        """What an object holds, a piece at a time. StoreError when it is not there."""

    def write(self, objects: Sequence[tuple[str, Iterable[bytes]]]) -> None:
        """Make these objects: each is there as a whole when the call returns, or, with an error, not at all."""

    def head(self) -> tuple[bytes, str] | None:
        """What the head holds, and a mark of it by which it is replaced; None when there is none."""

    def replace_head(self, content: bytes, mark: str | None) -> None:
        """Replace the head with this mark; None, where there is none. ConflictError when it is not that one."""

    def remove(self, names: Sequence[str]) -> None:
        """Remove objects, as far as that may be done: what is locked stays."""


@dataclass(frozen=True)
class _Head:
    """What the head says: which store this is of, and the objects of its ledger and of its estate."""

    changes: int
    ledger: str
    estate: str
    settings: str

    @classmethod
    def read(cls, content: bytes, place: str) -> "_Head":
        """StoreError when it is none."""
        try:
            data = json.loads(content)
            form = int(data["form"])
            made = cls(int(data["changes"]), str(data["ledger"]), str(data["estate"]), str(data["settings"]))
        except (ValueError, KeyError, TypeError, OverflowError, RecursionError) as exc:
            raise StoreError(f"{place}: {HEAD} is damaged", hint="check whether this is the copy's location") from exc
        if not all(_NAME.fullmatch(name) for name in (made.ledger, made.estate)):
            raise StoreError(f"{place}: {HEAD} names no objects", hint="check whether this is the copy's location")
        if form > _FORM:
            raise StoreError(f"{place}: a newer Historon wrote this copy", hint="install that one here too")
        return made

    def written(self) -> bytes:
        data: dict[str, Any] = {"form": _FORM, **vars(self)}
        return (json.dumps(data, indent=1) + "\n").encode()


# ---- bringing it up to date ------------------------------------------------------------------------------------------


def update(
    objects: Objects, estate: Estate, store: Store, retention: str | None, now: datetime, damaged: Sequence[Damage]
) -> Copied:
    """Bring a copy up to date with the store, and write again what is damaged in it.

    Raises StoreError, and its head stays, when it would be made worse.
    """
    changes = store.change_number()
    try:
        return _updated(objects, estate, store, retention, now, damaged)
    except (ConflictError, RefusedError):
        raise
    except StoreError:
        if store.change_number() == changes:
            raise
    return _updated(objects, estate, store, retention, now, damaged)  # versions were removed while they were copied


def _updated(
    objects: Objects, estate: Estate, store: Store, retention: str | None, now: datetime, damaged: Sequence[Damage]
) -> Copied:
    changes = store.change_number()
    found = objects.head()
    before = _Head.read(found[0], objects.place) if found else None
    with scratch() as folder:
        store.write_ledger(folder / LEDGER)
        ledger = BareLedger(folder / LEDGER)
        if retention is not None:
            for going, removal in left_out(estate, retention, {name: store.versions(name) for name in store.states()}):
                ledger.leave_out(going, removal)
        wanted = {_CONTENT + one.sha256.hex(): one for one in ledger.contents()}
        known_there: set[str] = set()
        if before is not None:
            ledger_before = _ledger_of(objects, before, folder / "before")
            known_there = {_CONTENT + one.sha256.hex() for one in ledger_before.contents()}
            ledger.check_follows(ledger_before, objects.place, approval_of(estate, store, now))
        bad = {_CONTENT + one.hex() for each in damaged for one in ledger.contents_of(each.source, each.number or 0)}
        _write_contents(objects, store, {name: wanted[name] for name in bad & wanted.keys()}, ())
        _write_contents(objects, store, wanted, _likely_there(objects, wanted.keys(), known_there))
        head = _write_ledger(objects, ledger, estate, changes)
        objects.replace_head(head.written(), found[1] if found else None)
        there = _all(objects)
        _write_contents(objects, store, wanted, there)  # what is gone anyway, or another one removed meanwhile
        size, left = _tidy(objects, {*wanted, head.ledger, head.estate}, there)
        sources, versions = ledger.counts()
    gone = (known_there & wanted.keys()) - there.keys()
    mended = tuple(sorted({f"{one.source}@{one.number}" for one in damaged} | gone))
    return Copied(sources, versions, size, changes, head.settings, left, mended=mended)


def _likely_there(objects: Objects, wanted: Set[str], known_there: Set[str]) -> Container[str]:
    """The contents that need not be written: what the ledger before says is there, as listing all of them takes long.

    Where many are new they are listed: an update that was cut short may have written most of them.
    """
    few = len(wanted - known_there) <= _AT_ONCE
    return known_there if few else objects.names(_CONTENT)


def _write_contents(objects: Objects, store: Store, wanted: Mapping[str, Kept], there: Container[str]) -> None:
    """Write those that are not there."""
    missing = iter([(name, kept) for name, kept in wanted.items() if name not in there])
    while batch := list(islice(missing, _AT_ONCE)):
        small = [(name, kept) for name, kept in batch if kept.size <= LARGE]
        objects.write([(name, list(_packed(store, kept))) for name, kept in small])
        for name, kept in batch:
            if kept.size > LARGE:
                objects.write([(name, _packed(store, kept))])


def _packed(store: Store, kept: Kept) -> Iterator[bytes]:
    """A content in frames; it has been checked by its digest when the last one comes."""
    digest = hashlib.sha256()
    stored = StoredPart("", kept.size, kept.sha256, kept.place)
    for piece in store.pieces(stored):
        digest.update(piece)
        yield from (pack(piece[at : at + _PIECE], _LEVEL) for at in range(0, len(piece), _PIECE))
    if digest.digest() != kept.sha256:
        raise StoreError("a content was moved while it was copied", hint="run this again")


def _write_ledger(objects: Objects, ledger: BareLedger, estate: Estate, changes: int) -> _Head:
    """Write the ledger and the estate's own files, each under its digest."""
    try:
        files = settings_files(estate)
    except OSError as exc:
        message = f"{exc.filename}: the estate's own files could not be copied: {exc.strerror}"
        raise StoreError(message, hint="check whether they are readable") from exc
    ledger_name = _LEDGER + _digest_of(ledger.file)
    estate_text = json.dumps({name: content.hex() for name, content in sorted(files.items())}).encode()
    estate_name = _ESTATE + hashlib.sha256(estate_text).hexdigest()
    there = {*objects.names(_LEDGER), *objects.names(_ESTATE)}
    if ledger_name not in there:
        objects.write([(ledger_name, _packed_file(ledger.file))])
    if estate_name not in there:
        objects.write([(estate_name, [pack(estate_text, _LEVEL)])])
    return _Head(changes, ledger_name, estate_name, settings_digest(files))


def _digest_of(file: Path) -> str:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def _packed_file(file: Path) -> Iterator[bytes]:
    with file.open("rb") as opened:
        while piece := opened.read(_PIECE):
            yield pack(piece, _LEVEL)


def _tidy(objects: Objects, needed: set[str], there: Mapping[str, int]) -> tuple[int, int]:
    """Remove what the head does not name any more; returns the bytes of the rest, and how much could not be removed."""
    left = 0
    unneeded = there.keys() - needed
    if unneeded:
        objects.remove(sorted(unneeded))
        prefixes = {name.partition("/")[0] + "/" for name in unneeded}
        left = len(unneeded & {name for prefix in prefixes for name in objects.names(prefix)})
    return sum(size for name, size in there.items() if name in needed), left


def _all(objects: Objects) -> dict[str, int]:
    return {**objects.names(_CONTENT), **objects.names(_LEDGER), **objects.names(_ESTATE)}


# ---- reading it ------------------------------------------------------------------------------------------------------


def verify(objects: Objects, store: Store, sample: int | None, settings: str) -> Verification:
    """Read the ledger and all contents, or so many of them, and check each by its digest, and all by the store."""
    with scratch() as folder:
        head = _present_head(objects)
        ledger = _ledger_of(objects, head, folder / LEDGER)
        contents = ledger.contents()
        found = Verification()
        found.sources, found.versions = ledger.counts()
        if sample is not None and sample < len(contents):
            found.sample_of = len(contents)
            contents = secrets.SystemRandom().sample(contents, sample)
        for one in contents:
            found.contents += 1
            found.bytes += one.size
            try:
                for _ in _content(objects, one):
                    pass
            except StoreError as exc:
                found.damages.append(Damage(*ledger.where(one.place), exc.message))
        try:
            _checked(objects, head.estate)
        except StoreError as exc:
            found.ledger.append(exc.message)
        if settings and head.settings != settings:
            found.differing.append(
                Damage("", None, "the estate's own files", "these are not the files that the copy was given")
            )
        with closing(FolderStore(folder)) as there:
            compare_with_store(found, there, ledger.digests(), store)
    return found


def is_newer(objects: Objects, store: Store) -> bool:
    """See CopyModule."""
    found = objects.head()
    return found is not None and _Head.read(found[0], objects.place).changes > store.change_number()


def holdings(objects: Objects) -> Holdings:
    """See CopyModule."""
    with scratch() as folder:
        ledger = _ledger_of(objects, _present_head(objects), folder / LEDGER)
        with closing(FolderStore(folder)) as there:
            return Holdings(store_identity(there), ledger.digests())


def fetch(objects: Objects, folder: Path) -> list[Damage]:
    """Make a folder what a copy of kind `store` is: a whole store, and beside it the estate's own files."""
    head = _present_head(objects)
    ledger = _ledger_of(objects, head, folder / LEDGER)

    def part_of(name: str, kept: Kept) -> Part:
        if kept.size <= LARGE:
            return Part(name, b"".join(_content(objects, kept)))
        spool = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115 (the part holds it)
        try:
            for piece in _content(objects, kept):
                spool.write(piece)
        except StoreError:
            spool.close()
            raise
        return Part(name, spool=spool, spooled=(kept.size, kept.sha256))

    lost = ledger.fill(part_of)
    try:
        _fetch_settings(objects, head, folder / SETTINGS)
    except StoreError as exc:
        lost.append(Damage("", None, "the estate's own files", exc.message))
    return lost


def _fetch_settings(objects: Objects, head: _Head, folder: Path) -> None:
    text = _checked(objects, head.estate)
    try:
        files = {str(name): bytes.fromhex(content) for name, content in json.loads(text).items()}
    except (ValueError, TypeError, AttributeError) as exc:
        raise StoreError(f"{objects.place}: {head.estate} is damaged", hint="it lists the estate's files") from exc
    for name, content in files.items():
        check_plain_name(name)
        (folder / name).parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        replace_file(folder / name, content)


def _present_head(objects: Objects) -> _Head:
    found = objects.head()
    if found is None:
        raise StoreError(f"{objects.place}: there is no copy here", hint="historon copies --update makes one")
    return _Head.read(found[0], objects.place)


def _ledger_of(objects: Objects, head: _Head, file: Path) -> BareLedger:
    """The ledger that a head names, in this file. StoreError when it is damaged."""
    digest = hashlib.sha256()
    with file.open("wb") as made:
        for piece in _bounded(objects, head.ledger, _MOST_LEDGER):
            digest.update(piece)
            made.write(piece)
    if _LEDGER + digest.hexdigest() != head.ledger:
        raise _damaged(objects, head.ledger)
    return BareLedger(file)


def _checked(objects: Objects, name: str) -> bytes:
    """What an object holds whose name is that of its digest."""
    content = b"".join(_bounded(objects, name, 2 * _MOST_SETTINGS))
    if hashlib.sha256(content).hexdigest() != name.rpartition("/")[2]:
        raise _damaged(objects, name)
    return content


def _content(objects: Objects, kept: Kept) -> Iterator[bytes]:
    """A content, a piece at a time. StoreError at its end when it is not what it should be."""
    name = _CONTENT + kept.sha256.hex()
    digest, size = hashlib.sha256(), 0
    for piece in _unpacked(objects, name):
        digest.update(piece)
        size += len(piece)
        if size > kept.size:
            break
        yield piece
    if digest.digest() != kept.sha256:
        raise _damaged(objects, name)


def _bounded(objects: Objects, name: str, most: int) -> Iterator[bytes]:
    """What an object holds; StoreError when that is more than it can be."""
    size = 0
    for piece in _unpacked(objects, name):
        size += len(piece)
        if size > most:
            raise StoreError(
                f"{objects.place}: {name} unpacks to more than {size_text(most)}", hint="it is not part of a copy"
            )
        yield piece


def _unpacked(objects: Objects, name: str) -> Iterator[bytes]:
    try:
        yield from unpack_pieces(objects.read(name))
    except DamagedError as exc:
        raise _damaged(objects, name) from exc


def _damaged(objects: Objects, name: str) -> StoreError:
    hint = "remove this object and update the copy: missing objects are written again"
    return StoreError(f"{objects.place}: {name} is damaged", hint=hint)
