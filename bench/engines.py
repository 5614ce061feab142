"""The two engines of a store beside each other: the same rounds, the same questions."""

import random
import statistics
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

from tests.postgres import PASSWORD, running_server

from bench.history import history
from historon.estate import SecretRef, StorePlace
from historon.store import Entry, FolderStore, Outcome, Part, Store
from historon.store.postgresql.server import PostgresStore

SOURCES, NIGHTS = 60, 60
_UNITS = {"ingest": "ms a round", "open": "ms", "read": "ms a version", "states": "ms", "size": "MB"}
_START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)


def main() -> None:
    """Print the same rows for both, and how the server stands to the folder."""
    with tempfile.TemporaryDirectory() as name, running_server() as server:
        folder = Path(name)
        (folder / "password").touch(mode=0o600)
        (folder / "password").write_text(PASSWORD)
        place, password = StorePlace(server.database()), SecretRef("file:password")
        rows = {"folder": _row(FolderStore.create(folder / "store"), lambda: FolderStore(folder / "store"))}
        rows["server"] = _row(
            PostgresStore.create(place, folder, password), lambda: PostgresStore(place, folder, password)
        )
        print(f"engines       {SOURCES} sources x {NIGHTS} nights; the server on this machine, over TCP, fsync off")
        for what, unit in _UNITS.items():
            ours, servers = rows["folder"][what], rows["server"][what]
            print(f"{what:14}folder {ours:.2f} {unit}, server {servers:.2f} {unit}: {servers / ours:.1f} times")


def _row(store: Store, again: Callable[[], Store]) -> dict[str, float]:
    rounds = []
    with closing(store):
        for night, exports in enumerate(history(SOURCES, NIGHTS)):
            at = _START + timedelta(days=night)
            entries = [
                Entry(name, Outcome.CHANGED, at, timedelta(seconds=1), [Part("active.cfg", content)])
                for name, content in exports.items()
            ]
            rounds.append(_timed(lambda at=at, entries=entries: _round(store, at, entries)))  # type: ignore[misc]
    opening = _timed(lambda: again().close())
    with closing(again()) as store:
        rng = random.Random(7)
        reads = [_timed(lambda: _read_any(store, rng)) for _ in range(500)]
        states = [_timed(store.states) for _ in range(20)]
        size = store.size() / 1e6
    return {
        "ingest": statistics.median(rounds),
        "open": opening,
        "read": statistics.median(reads),
        "states": statistics.median(states),
        "size": size,
    }


def _round(store: Store, at: datetime, entries: list[Entry]) -> None:
    number = store.begin_round(at, "bench")
    for entry in entries:  # one after another, as they come in
        store.record(number, [entry])
    store.end_round(number, at)


def _read_any(store: Store, rng: random.Random) -> None:
    source = f"source-{rng.randrange(SOURCES):03}"
    store.read(store.parts(source, rng.randrange(1, NIGHTS + 1))[0])


def _timed(work: Callable[[], object]) -> float:
    """In milliseconds."""
    began = time.perf_counter()
    work()
    return (time.perf_counter() - began) * 1000


if __name__ == "__main__":
    main()
