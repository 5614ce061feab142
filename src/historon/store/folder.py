"""The store as a folder: one SQLite database that is the ledger and holds the contents."""

import errno
import os
import shutil
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime
from itertools import chain
from pathlib import Path
from typing import Any

import msgspec
import zstandard

from historon.errors import StoreError
from historon.processes import is_running, process_in_words, this_process
from historon.store.contents import Contents
from historon.store.instants import from_ms, to_ms
from historon.store.interface import (
    ESTATE,
    Changed,
    Entry,
    Outcome,
    Recorded,
    Round,
    SourceState,
    State,
    Store,
    StoredPart,
    Version,
    Visit,
)
from historon.store.outbox import Outbox
from historon.store.rounds import Rounds
from historon.store.schema import OUTCOMES, STATES, check_schema, migrate
from historon.store.signatures import Signatures
from historon.store.varints import read_varints, varints

__all__ = ["LEDGER", "FolderStore", "places_in"]

LEDGER = "ledger.sqlite"
_BUSY_S = 60
_WRITING = "writing"  # a file that says who writes, for those who have to wait
_RESERVE = "reserve"  # a file that only takes room, which is given up when there is none left to remove things with
_RESERVED = 4 * 2**20  # bytes
_PAGES_AT_ONCE = 500  # that are given back in one step
_ROOM_FOR_RESERVE = 64 * 2**20
_SENSELESS = (ValueError, TypeError, IndexError, KeyError, OverflowError, msgspec.MsgspecError, zstandard.ZstdError)
_PACK_AT_ONCE, _PACK_AT_MOST = 50, 500
_VERSION = "SELECT number, at, state, size, added, removed, held, note FROM version WHERE source = ?"
_LATEST = """
    SELECT good, last_number, parts, trees FROM source
    LEFT JOIN version ON version.source = source.id AND version.number = source.good WHERE source.id = ?
"""
_CHANGED = "families IS NOT NULL"
_NOT_FIRST = "state = 0 AND number > (SELECT min(number) FROM version AS v WHERE v.source = version.source)"
_STATE = "SELECT name, good, good_at, confirmed_at, outcome, outcome_at, note FROM source"


class FolderStore(Store):
    """A store in a folder of this machine. One process writes at a time, others wait; readers never wait."""

    def __init__(self, folder: Path, *, indexed: bool = True, spend_reserve: bool = False) -> None:
        """Open the store. StoreError when its ledger is not there, cannot be read, or is newer than this program.

        With `spend_reserve` the room that was set aside is given up first, so that there is some to remove things with.
        """
        self.indexed = indexed
        self._folder = folder
        self._file = folder / LEDGER
        state = self._look()
        self._identity = state.st_dev, state.st_ino
        self._others: list[FolderStore] = []
        self._closed = False
        self.read_only = not (os.access(self._file, os.W_OK) and os.access(folder, os.W_OK | os.X_OK))
        if spend_reserve and not self.read_only and self.room() < _ROOM_FOR_RESERVE:
            with suppress(OSError):
                (folder / _RESERVE).unlink()
        with self._doing("open the store"):
            self._db = self._open_to_read() if self.read_only else self._open()
        self._contents = Contents(self._db)
        self._rounds = Rounds(self._db)
        self._signatures = Signatures(self._db)
        self._outbox = Outbox(self._db, self._writing, self._doing, self._remember)
        self._numbers: dict[str, int] = {}

    def _look(self) -> os.stat_result:
        """What the ledger's file is now; StoreError when it is no ledger that could be opened.

        Nothing but SQLite may ever open it: to close a file lets go of all locks that this process has on it, whoever
        took them (POSIX, fcntl), and then the next reader takes the write-ahead log away from under a writer.
        """
        try:
            state = self._file.stat()
            if not os.access(self._file, os.R_OK):
                raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
        except (FileNotFoundError, NotADirectoryError) as exc:
            raise StoreError(
                f"{self._folder}: there is no store here",
                hint="is its disk mounted? A new, empty one is made with: historon new DIR --store-only",
            ) from exc
        except OSError as exc:
            hint = "run this as the user whom it belongs to, or change owner and mode"
            raise StoreError(f"{self._file}: it cannot be read by this user: {exc.strerror}", hint=hint) from exc
        if not state.st_size:
            hint = "something has cut it off: take the store back from a copy"
            raise StoreError(f"{self._file}: the ledger is empty, a file of 0 bytes", hint=hint)
        return state

    def _open(self) -> sqlite3.Connection:
        db = sqlite3.connect(self._file, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
        # FULL: a commit has reached the disk when it returns, also in write-ahead mode.
        db.executescript("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA temp_store = MEMORY;")
        # What is removed is given back to the disk at once; to write zeros over it first would take as much room.
        db.execute("PRAGMA secure_delete = OFF")
        migrate(db, str(self._file))
        return db

    def _open_to_read(self) -> sqlite3.Connection:
        """Open a store that cannot be written: a snapshot, a disk that went bad, or another user's."""
        place = self._file.absolute().as_uri()
        for how in ("mode=ro", "immutable=1"):  # without write-ahead files beside it SQLite wants to make them
            try:
                db = sqlite3.connect(
                    f"{place}?{how}", uri=True, timeout=_BUSY_S, isolation_level=None, check_same_thread=False
                )
                db.execute("SELECT 1 FROM sqlite_schema").fetchone()
                break
            except sqlite3.OperationalError:
                if how == "immutable=1":
                    raise
        check_schema(db, str(self._file))
        return db

    def _check_place(self) -> None:
        """StoreError when the store was moved away, or another one is in its place: what is written would be lost."""
        try:
            state = self._file.stat()
        except OSError:
            state = None
        if state is None or (state.st_dev, state.st_ino) != self._identity:
            raise StoreError(
                f"{self._file}: the store was moved away or replaced while it was open; nothing more was written",
                hint="if that was meant, restart the service: it opens the one that is there then",
            )

    def another(self) -> Store:
        """See Store: a connection of its own, so that whoever writes may wait while others read."""
        if type(self) is not FolderStore:
            return self
        made = FolderStore(self._folder, indexed=self.indexed)
        made._identity = self._identity  # what is there now may be another store: it is read, and written to by nobody
        self._others = [*(one for one in self._others if not one._closed), made]
        return made

    @classmethod
    def create(cls, folder: Path) -> "FolderStore":
        """Make a new, empty store, readable by its owner alone; StoreError when one is there."""
        file = folder / LEDGER
        try:
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            os.close(os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
        except FileExistsError as exc:
            raise StoreError(f"{folder}: a store is there already; nothing was changed") from exc
        except OSError as exc:
            raise StoreError(f"{folder}: cannot make a store: {exc.strerror}", hint="check the permissions") from exc
        db = sqlite3.connect(file)
        db.executescript("PRAGMA page_size = 2048; PRAGMA auto_vacuum = INCREMENTAL")
        db.execute("VACUUM")
        migrate(db, str(file))
        db.close()
        made = cls(folder)
        made.set_aside()
        return made

    def begin_round(self, at: datetime, trigger: str) -> int:
        """See Store."""
        self.set_aside()
        with self._writing("begin a round"):
            number = self._rounds.begin(at, trigger)
            self._remember(_at_work(number), {ESTATE: this_process()})
            return number

    def end_round(self, round_number: int, at: datetime) -> None:
        """See Store."""
        with self._writing("end a round"):
            self._rounds.end(round_number, at)
            self._remember(_at_work(round_number), {ESTATE: ""})

    def record(self, round_number: int, entries: Iterable[Entry]) -> list[Recorded]:
        """See Store."""
        visits = []
        with self._writing("record versions"):
            for entry in entries:
                source = self._source(entry.source)
                outcome, number = self._take(source, entry)
                for topic, text in entry.remembered:
                    self._remember(topic, {entry.source: text})
                visits.append((source, entry, Recorded(entry.source, outcome, number)))
            self._rounds.add(round_number, visits)
        return [told for _, _, told in visits]

    def _take(self, source: int, entry: Entry) -> tuple[Outcome, int | None]:
        """Write an entry's export, if it is new; returns the outcome, and the version that the export is."""
        outcome, number = entry.outcome, None
        if entry.parts:
            known, last, places, trees = self._db.execute(_LATEST, (source,)).fetchone()
            suspect = entry.state is State.SUSPECT
            if suspect:
                known, places, trees = self._last_suspect(source, last)
            before = self._described(places, trees)
            if known and {(p.name, p.sha256) for p in before} == {(p.name, p.sha256) for p in entry.parts}:
                number, outcome = known, outcome if suspect else Outcome.UNCHANGED
            else:
                number = last + 1
                self._insert(source, number, entry, before)
        self._summarise(source, number, outcome, entry)
        return outcome, number

    def _last_suspect(self, source: int, last: int) -> tuple[int | None, bytes | None, bytes | None]:
        """The newest version when it is a suspect one, against which a new suspect export is held, and its parts."""
        row = self._db.execute(
            "SELECT number, parts, trees FROM version WHERE source = ? AND number = ? AND state = ?",
            (source, last, STATES.index(State.SUSPECT)),
        ).fetchone()
        return row or (None, None, None)

    def _described(self, places: bytes | None, trees: bytes | None) -> list[StoredPart]:
        marked = set(read_varints(trees)[0]) if trees else ()
        return [
            StoredPart(*self._contents.describe(*place), place, is_tree=place[0] in marked)
            for place in places_in(places or b"")
        ]

    def _insert(self, source: int, number: int, entry: Entry, before: Sequence[StoredPart]) -> None:
        """Write a version; of many parts only those that differ from the ones before are written."""
        held = {(part.name, part.sha256): part.place for part in before}
        places, trees = [], []
        for part in sorted(entry.parts, key=lambda part: part.name):
            if isinstance(part, StoredPart):
                places.append(part.place)
            else:
                places.append(held.get((part.name, part.sha256)) or self._contents.put(source, part))
            trees += [places[-1][0]] if part.is_tree else []
        self._db.execute(
            "INSERT INTO version (source, number, at, state, size, added, removed, parts, note, families, trees) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (source, number, to_ms(entry.made or entry.at), STATES.index(entry.state), sum(p.size for p in entry.parts),
             entry.added, entry.removed, varints(chain.from_iterable(places)), entry.note, entry.families or None,
             varints(trees) or None),
        )  # fmt: skip
        if entry.state is not State.SUSPECT:
            self._signatures.add(source, number, entry.signature)

    def _summarise(self, source: int, number: int | None, outcome: Outcome, entry: Entry) -> None:
        """Bring the source's row up to date: every outcome but `skipped` speaks of its state."""
        if outcome is Outcome.SKIPPED:
            return
        self._db.execute(
            "UPDATE source SET outcome = ?1, outcome_at = ?2, note = ?3, "
            "last_number = max(last_number, coalesce(?4, 0)), "
            "good_at = CASE WHEN ?5 AND good IS NOT ?4 THEN ?7 ELSE good_at END, "
            "confirmed_at = CASE WHEN ?5 THEN ?7 ELSE confirmed_at END, good = CASE WHEN ?5 THEN ?4 ELSE good END "
            "WHERE id = ?6",
            (
                OUTCOMES.index(outcome),
                to_ms(entry.at),
                entry.note,
                number,
                outcome.good,
                source,
                to_ms(entry.made or entry.at),
            ),
        )

    def vouch(
        self, version: Version, state: State, added: int, removed: int, families: bytes, signature: bytes | None
    ) -> None:
        """See Store."""
        with self._writing("vouch for a version"):
            source, number, at = self._known(version.source), version.number, to_ms(version.at)
            self._db.execute(
                "UPDATE version SET state = ?, added = ?, removed = ?, families = ? WHERE source = ? AND number = ?",
                (STATES.index(state), added, removed, families or None, source, number),
            )
            self._db.execute(
                "UPDATE source SET good = ?1, good_at = ?2, confirmed_at = max(coalesce(confirmed_at, 0), ?2) "
                "WHERE id = ?3 AND coalesce(good, 0) < ?1",
                (number, at, source),
            )
            self._db.execute(
                "UPDATE source SET outcome = ?, note = NULL WHERE id = ? AND last_number = ? AND outcome = ?",
                (OUTCOMES.index(Outcome.CHANGED), source, number, OUTCOMES.index(Outcome.SUSPECT)),
            )
            self._signatures.add(source, number, signature)

    def rounds(self, limit: int = 20) -> list[Round]:
        """See Store."""
        with self._reading("read the rounds"):
            return self._rounds.last(limit)

    def visits(self, round_number: int) -> list[Visit]:
        """See Store."""
        with self._reading("read a round"):
            return self._rounds.visits(round_number)

    def states(self) -> dict[str, SourceState]:
        """See Store."""
        with self._reading("read the sources"):
            return {row[0]: _state(*row) for row in self._db.execute(_STATE)}

    def state(self, source: str) -> SourceState:
        """See Store."""
        with self._reading("read a source"):
            row = self._db.execute(f"{_STATE} WHERE name = ?", (source,)).fetchone()
            return _state(*row) if row else SourceState(source)

    def versions(self, source: str) -> list[Version]:
        """See Store."""
        with self._reading(f"read the versions of {source}"):
            number = self._known(source)
            rows = self._db.execute(f"{_VERSION} ORDER BY number", (number,)).fetchall()
            return [_version(source, *row) for row in rows]

    def version(self, source: str, number: int) -> Version | None:
        """See Store."""
        with self._reading(f"read {source}@{number}"):
            row = self._db.execute(f"{_VERSION} AND number = ?", (self._known(source), number)).fetchone()
            return _version(source, *row) if row else None

    def parts(self, source: str, number: int) -> list[StoredPart]:
        """See Store."""
        with self._reading(f"read {source}@{number}"):
            key = (self._known(source), number)
            row = self._db.execute("SELECT parts, trees FROM version WHERE source = ? AND number = ?", key).fetchone()
            return sorted(self._described(*row or (None, None)), key=lambda part: part.name)

    def read(self, part: StoredPart) -> bytes:
        """See Store."""
        with self._reading(f"read {part.name}"):
            return self._contents.read(*part.place)

    def pieces(self, part: StoredPart) -> Iterator[bytes]:
        """See Store."""
        with self._reading(f"read {part.name}"):
            yield from self._contents.pieces(*part.place)

    def changed(self, since: datetime, until: datetime) -> list[Changed]:
        """See Store."""
        with self._reading("read what changed"):
            (after,) = self._db.execute("SELECT value FROM meta WHERE name = 'families_after'").fetchone()
            # Before that instant versions were recorded without families, and no index tells them.
            which = _CHANGED if to_ms(since) > int(after) else f"({_CHANGED} OR families IS NULL AND {_NOT_FIRST})"
            rows = self._db.execute(
                "SELECT name, number, at, added, removed, families "  # noqa: S608 (constants, no values)
                "FROM version JOIN source ON source.id = version.source "
                f"WHERE at >= ? AND at <= ? AND {which} ORDER BY at",
                (to_ms(since), to_ms(until)),
            ).fetchall()
            for name, number, _, added, removed, found in rows:
                _check_types(str, name)
                _check_types(int, number, added, removed)
                _check_types(bytes | None, found)
            return [
                Changed(name, number, from_ms(at), added, removed, families or b"")
                for name, number, at, added, removed, families in rows
            ]

    def signature(self, source: str) -> tuple[int, bytes] | None:
        """See Store."""
        with self._reading("read a signature"):
            return self._signatures.of(self._known(source))

    def signed(self, source: str) -> bool:
        """See Store."""
        with self._reading("read a signature"):
            return self._signatures.known(self._known(source))

    def signatures(self) -> Iterator[tuple[str, int, bytes]]:
        """See Store."""
        with self._reading("read signatures"):
            yield from self._signatures.all()

    def recall(self, source: str, topic: str) -> str | None:
        """See Store."""
        with self._reading("recall"):
            key = (self._known(source), topic)
            row = self._db.execute("SELECT text FROM memory WHERE source = ? AND topic = ?", key).fetchone()
        return row[0] if row else None

    def remember(self, source: str, topic: str, text: str) -> None:
        """See Store."""
        self.remember_all(topic, {source: text})

    def at_work(self, one: Round) -> bool | None:
        """See Store."""
        return False if one.ended is not None else is_running(self.recall(ESTATE, _at_work(one.number)) or "")

    def swap(self, source: str, topic: str, old: str, new: str) -> bool:
        """See Store."""
        with self._writing("remember"):
            key = (self._known(source), topic, old)
            if self._db.execute("SELECT 1 FROM memory WHERE source = ? AND topic = ? AND text = ?", key).fetchone():
                self._remember(topic, {source: new})
                return True
            return False

    def recall_all(self, topic: str) -> dict[str, str]:
        """See Store."""
        with self._reading("recall"):
            return dict(
                self._db.execute("SELECT name, text FROM memory JOIN source ON id = source WHERE topic = ?", (topic,))
            )

    def remember_all(self, topic: str, texts: Mapping[str, str]) -> None:
        """See Store."""
        with self._writing("remember"):
            self._remember(topic, texts)

    def _remember(self, topic: str, texts: Mapping[str, str]) -> None:
        self._db.executemany(
            "INSERT OR REPLACE INTO memory (source, topic, text) VALUES (?, ?, ?)",
            [(self._source(source), topic, text) for source, text in texts.items() if text],
        )
        self._db.executemany(
            "DELETE FROM memory WHERE source = ? AND topic = ?",
            [(self._known(source), topic) for source, text in texts.items() if not text],
        )

    @property
    def outbox(self) -> Outbox:
        """See Store."""
        return self._outbox

    def lease(self, holder: str, now: datetime, until: datetime) -> str | None:
        """See Store."""
        with self._writing("take the lease"):
            row = self._db.execute("SELECT value FROM meta WHERE name = 'service'").fetchone()
            other, end = msgspec.json.decode(row[0], type=tuple[str, int]) if row else (holder, 0)
            # One that reaches further than anybody asks for was taken before the clock was set back.
            if other != holder and to_ms(now) < end <= to_ms(until) and is_running(other) is not False:
                return other
            value = msgspec.json.encode((holder, to_ms(until)))
            self._db.execute("INSERT OR REPLACE INTO meta VALUES ('service', ?)", (value,))
        return None

    def release(self, holder: str) -> None:
        """See Store."""
        with self._writing("give the lease back"):
            row = self._db.execute("SELECT value FROM meta WHERE name = 'service'").fetchone()
            if row and msgspec.json.decode(row[0], type=tuple[str, int])[0] == holder:
                self._db.execute("DELETE FROM meta WHERE name = 'service'")

    def hold(self, source: str, number: int, reason: str | None) -> None:
        """See Store."""
        with self._writing("hold a version"):
            self._db.execute(
                "UPDATE version SET held = ? WHERE source = ? AND number = ?", (reason, self._known(source), number)
            )

    def remove(self, versions: Iterable[Version]) -> int:
        """See Store."""
        with self._writing("remove versions"):
            strands: dict[int, set[int]] = {}
            gone = 0
            for version in versions:
                source = self._known(version.source)
                self._check_removable(version.source, source, version.number)
                row = self._db.execute(
                    "DELETE FROM version WHERE source = ? AND number = ? RETURNING parts", (source, version.number)
                ).fetchall()
                gone += len(row)
                self._db.execute("INSERT OR IGNORE INTO removed VALUES (?, ?)", (source, version.number))
                strands.setdefault(source, set()).update(place[0] for (parts,) in row for place in places_in(parts))
            for source, touched in strands.items():
                self._thin(source, touched)
            self._contents.sweep(set().union(*strands.values()))
            return gone

    def _check_removable(self, name: str, source: int, number: int) -> None:
        key = (source, number)
        if self._db.execute("SELECT 1 FROM source WHERE id = ? AND good = ?", key).fetchone():
            raise StoreError(f"{name}@{number} is the last good version and stays")
        row = self._db.execute("SELECT held FROM version WHERE source = ? AND number = ?", key).fetchone()
        if row and row[0] is not None:
            raise StoreError(f"{name}@{number} is held and stays", hint=f"historon hold {name}@{number} --lift")

    def _thin(self, source: int, strands: set[int]) -> None:
        """Give back the contents that no version of the source points to any more, and follow those that moved."""
        rows = self._db.execute("SELECT number, parts FROM version WHERE source = ?", (source,)).fetchall()
        used: dict[int, set[int]] = {strand: set() for strand in strands}
        for _, parts in rows:
            for strand, position in places_in(parts):
                if strand in used:
                    used[strand].add(position)
        moved = {
            (strand, old): (strand, new)
            for strand, positions in used.items()
            for old, new in self._contents.thin(strand, sorted(positions)).items()
        }
        for number, parts in rows if moved else ():
            places = [moved.get(place, place) for place in places_in(parts)]
            self._db.execute(
                "UPDATE version SET parts = ? WHERE source = ? AND number = ?",
                (varints(chain.from_iterable(places)), source, number),
            )

    def reclaim(self) -> int:
        """See Store."""
        before = self.size()
        self._pack()
        self.give_back()
        return max(0, before - self.size())

    def give_back(self) -> None:
        """See Store."""
        with self._doing("give space back"):
            # In small steps, as a full disk has little room for the journal of each.
            free = -1
            while (left := self._db.execute("PRAGMA freelist_count").fetchone()[0]) not in (0, free):
                free = left
                # As a script: `execute` would take one step of it, which frees one page.
                self._db.executescript(f"PRAGMA wal_checkpoint(TRUNCATE); PRAGMA incremental_vacuum({_PAGES_AT_ONCE});")
            self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def set_aside(self) -> None:
        """See Store."""
        reserve = self._folder / _RESERVE
        if reserve.exists() or self.room() < _ROOM_FOR_RESERVE:
            return
        with suppress(OSError):
            file = os.open(reserve, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            try:
                os.posix_fallocate(file, 0, _RESERVED)
            finally:
                os.close(file)

    def room(self) -> int:
        """See Store."""
        return shutil.disk_usage(self._folder).free

    def _pack(self) -> None:
        """Compress harder what rounds had to write quickly; some at a time, as others may wait to write."""
        packed, limit = self._packed(), _PACK_AT_MOST
        while limit > 0:
            with self._writing("pack keyframes"):
                last = self._contents.pack(packed, _PACK_AT_ONCE)
                self._db.execute("INSERT OR REPLACE INTO meta VALUES ('packed', ?)", (last,))
            if last == packed:
                break
            packed, limit = last, limit - _PACK_AT_ONCE

    def _packed(self) -> int:
        """The last content that was packed."""
        with self._reading("read the store's state"):
            row = self._db.execute("SELECT value FROM meta WHERE name = 'packed'").fetchone()
        return int(row[0]) if row else 0

    def check(self) -> list[str]:
        """See Store."""
        with self._doing("check the ledger"):
            return [row[0] for row in self._db.execute("PRAGMA integrity_check(20)") if row[0] != "ok"]

    def fingerprint_key(self) -> bytes:
        """See Store."""
        with self._reading("read the store's key"):
            return bytes(self._db.execute("SELECT value FROM meta WHERE name = 'fingerprint_key'").fetchone()[0])

    def change_number(self) -> int:
        """See Store."""
        with self._reading("read the store's state"):
            return int(self._db.execute("SELECT value FROM meta WHERE name = 'changes'").fetchone()[0])

    def size(self) -> int:
        """See Store."""
        try:
            return sum(file.stat().st_size for file in self._folder.glob(f"{LEDGER}*"))
        except OSError as exc:
            raise StoreError(f"{self._folder}: {exc.strerror}", hint="is its disk mounted?") from exc

    def close(self) -> None:
        """See Store. Those that were made for other threads are closed too."""
        self._closed = True
        self._db.close()
        for one in self._others:
            one.close()

    def _known(self, source: str) -> int:
        """The ledger's number of a source; -1, which no row has, for one it never met, and 0 for the whole estate."""
        if source == ESTATE:
            return 0
        if source not in self._numbers:
            row = self._db.execute("SELECT id FROM source WHERE name = ?", (source,)).fetchone()
            if not row:
                return -1
            self._numbers[source] = int(row[0])
        return self._numbers[source]

    def _source(self, name: str) -> int:
        if (known := self._known(name)) >= 0:
            return known
        return int(self._db.execute("INSERT INTO source (name) VALUES (?)", (name,)).lastrowid or 0)

    @contextmanager
    def _writing(self, what: str) -> Iterator[None]:
        """One transaction: everything in it, or nothing."""
        if self.read_only:
            hint = "reading commands work; to write, mount it writable, or use a copy of it"
            raise StoreError(f"{self._file}: cannot {what}: the store is read-only", hint=hint)
        self._check_place()
        with self._doing(what):
            self._db.execute("BEGIN IMMEDIATE")
            self._sign(what)
            try:
                yield
                self._sign("")  # while nobody else can be writing, whose word this would wipe
                self._db.execute("COMMIT")
            except BaseException:
                self._contents.forget()
                self._numbers.clear()
                if self._db.in_transaction:
                    self._sign("")
                    self._db.execute("ROLLBACK")
                raise

    def _sign(self, what: str) -> None:
        """Leave word for those who wait of who is writing, since when, and what for; nobody else reads it."""
        with suppress(OSError):
            word = f"{this_process()}\n{datetime.now().astimezone():%H:%M:%S} ({what})" if what else ""
            with open(os.open(self._folder / _WRITING, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
                file.write(word)

    def _who_writes(self) -> str:
        """Who is writing, in words; nothing where nobody left word, or whoever did is dead."""
        with suppress(OSError):
            process, _, since = (self._folder / _WRITING).read_text(errors="replace").partition("\n")
            if is_running(process) is not False:
                return f"{process_in_words(process)} has been writing since {since}"
        return ""

    @contextmanager
    def _doing(self, what: str) -> Iterator[None]:
        """SQLite's errors in the words of someone who has to mend them."""
        try:
            yield
        except sqlite3.Error as exc:
            busy = getattr(exc, "sqlite_errorname", "").startswith("SQLITE_BUSY")
            why = (self._who_writes() if busy else "") or str(exc)
            raise StoreError(f"{self._file}: cannot {what}: {why}", hint=_advice(exc)) from exc

    @contextmanager
    def _reading(self, what: str) -> Iterator[None]:
        """The same; and a row that says what none can say is damaged, whatever stumbles over it."""
        try:
            with self._doing(what):
                yield
        except _SENSELESS as exc:
            hint = "historon verify tells what else is damaged; take the store back from a copy"
            raise StoreError(f"{self._file}: cannot {what}: what the ledger says of it is damaged", hint=hint) from exc


def _at_work(round_number: int) -> str:
    """The topic under which is remembered which process is at a round."""
    return f"at work {round_number}"


def places_in(parts: bytes) -> list[tuple[int, int]]:
    """The strands and positions of a version's parts."""
    _check_types(bytes, parts)
    numbers, _ = read_varints(parts)
    return list(zip(numbers[::2], numbers[1::2], strict=True))


def _advice(exc: sqlite3.Error) -> str:
    name = getattr(exc, "sqlite_errorname", "") or ""
    advice = {
        "SQLITE_FULL": "the disk is full: make room (historon prune), then run it again; nothing was half written",
        "SQLITE_IOERR": "nothing was half written, but the disk took no more: full (historon prune)? failing?",
        "SQLITE_BUSY": "another Historon is writing: wait for it to end",
        "SQLITE_READONLY": "check the owner and mode of the store",
        "SQLITE_CANTOPEN": "check the owner and mode of the store",
        "SQLITE_CORRUPT": "the file is damaged: take the store back from a copy",
        "SQLITE_NOTADB": "this file is not a ledger, or it is damaged: take the store back from a copy",
    }
    return next(
        (text for code, text in advice.items() if name.startswith(code)), "check the disk and the store's folder"
    )


def _state(
    name: str, good: int | None, good_at: int | None, confirmed_at: int | None, outcome: int | None,
    outcome_at: int | None, note: str | None,
) -> SourceState:  # fmt: skip
    _check_types(str, name)
    _check_types(int | None, good, good_at, confirmed_at)
    _check_types(str | None, note)
    return SourceState(
        name=name,
        good=good,
        good_at=None if good_at is None else from_ms(good_at),
        confirmed_at=None if confirmed_at is None else from_ms(confirmed_at),
        outcome=None if outcome is None else Outcome(OUTCOMES[outcome]),
        outcome_at=None if outcome_at is None else from_ms(outcome_at),
        note=note,
    )


def _version(
    source: str, number: int, at: int, state: int, size: int, added: int, removed: int, held: str | None,
    note: str | None,
) -> Version:  # fmt: skip
    _check_types(int, number, size, added, removed)
    _check_types(str | None, held, note)
    return Version(source, number, from_ms(at), State(STATES[state]), size, added, removed, held, note)


def _check_types(wanted: Any, *values: object) -> None:
    """TypeError when a damaged row holds something else: SQLite lets any column hold anything."""
    if not all(isinstance(value, wanted) for value in values):
        raise TypeError(f"{wanted} was expected")
