"""Comparing documents, and asking 10,000 sources: `find`, `changes` and `trace` on a ledger of a month."""

import random
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bench.history import history
from historon.base.workers import Done
from historon.collect.judging import answer, judged, question_about
from historon.collect.transports.ssh_exec import SshExec
from historon.compare import compare_exports
from historon.estate import Clauses, Keep, Source
from historon.insight import Reader
from historon.inspection import Kept
from historon.store import Entry, FolderStore, Part
from historon.versions import Masks

HISTORON = Path(sys.executable).with_name("historon")
SOURCES, NIGHTS, EDITED = 10_000, 30, 0.05
_STEP: Keep[Clauses] = Keep(says="list settings active", as_="active.cfg")
_PROCEDURE = SshExec(steps=(_STEP,))


def main() -> None:
    """Print times, each beside what was aimed at."""
    _structured()
    with tempfile.TemporaryDirectory() as name:
        _estate_wide(Path(name))


def _structured() -> None:
    rng = random.Random(4)
    rules = [
        f'<rule uuid="{rng.getrandbits(64):016x}" name="r{n}"><action>allow</action><source>'
        f"<network>10.{n % 255}.0.0/16</network></source><destination><port>{rng.randrange(9999)}</port></destination>"
        "<log>1</log></rule>"
        for n in range(3000)
    ]
    edited = list(rules)
    for at in rng.sample(range(3000), 20):
        edited[at] = edited[at].replace("<log>1", "<log>0")
    edited.insert(1200, edited.pop(77))
    old, new = (("<c>\n" + "\n".join(side) + "\n</c>\n").encode() for side in (rules, edited))
    began = time.perf_counter()
    (change,) = compare_exports({"rules.xml": old}, {"rules.xml": new}, Masks(key=b"k"))
    found = len(change.changes)
    took = time.perf_counter() - began
    print(f"documents     XML of 3,000 rules, {len(old) / 1e6:.1f} MB: {found} changes in {took * 1000:.0f} ms (500)")


def _estate_wide(folder: Path) -> None:
    """A small text for each of many sources, some of which change each night, recorded as rounds record them."""
    names = [f"source-{number:05}" for number in range(SOURCES)]
    rows = "".join(f"{name},p,192.0.2.1\n" for name in names)
    (folder / "sources.csv").write_text(f"name,procedure,address\n{rows}")
    (folder / "historon.toml").write_text(
        '[estate]\nname = "Bench"\nsources_from = "sources.csv"\n'
        '[procedures.p]\nover = "local"\nsteps = [{ pull = "x" }]\n'
    )
    store = FolderStore.create(folder / "store")
    rng = random.Random(9)
    texts = dict(zip(names, _texts(), strict=False))
    start = datetime.now(UTC) - timedelta(days=NIGHTS - 1)
    began = time.perf_counter()
    changed = 0
    for night in range(NIGHTS):
        at = start + timedelta(days=night)
        edited = names if night == 0 else rng.sample(names, int(SOURCES * EDITED))
        entries = []
        for name in edited:
            if night:
                texts[name] = _edited(rng, texts[name], night)
            entries.append(_entry(store, name, texts[name], at))
        changed += len(entries) * bool(night)
        number = store.begin_round(at, "bench")
        store.record(number, entries)
        store.end_round(number, at)
    took = time.perf_counter() - began
    bare, size = _bare_size(store), store.size()
    store.close()
    print(f"estate        {SOURCES:,} sources, {NIGHTS} nights, {changed:,} changed versions; taken in in {took:.0f} s")
    print(f"              store {size / 1e6:.0f} MB, of it {(size - bare) / 1e6:.1f} MB for the index")
    for what, arguments, aim in (
        ("find, a rare text", ["find", "keel-00123-unique"], 1.0),
        ("find, none", ["find", "no such text anywhere"], 1.0),
        ("find, everywhere", ["find", "hostname"], 0),
        ("changes, a month", ["changes", "--since", "31d"], 2.0),
        ("trace", ["trace", "source-00123", "description"], 0),
    ):
        times = []
        for _ in range(3):
            began = time.perf_counter()
            subprocess.run([HISTORON, *arguments], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            times.append(time.perf_counter() - began)
        print(f"              {what:<22}{min(times):6.2f} s, the whole command" + (f" ({aim:g})" if aim else ""))


def _texts() -> list[bytes]:
    base = [next(iter(history(1, 1, seed=seed).__next__().values())) for seed in range(5)]
    lines = [text.split(b"\n")[:300] for text in base]
    return [
        b"\n".join([b"hostname keel-%05d-unique" % number, *lines[number % 5][1:], b"site %d" % number, b"end", b""])
        for number in range(SOURCES)
    ]


def _edited(rng: random.Random, text: bytes, night: int) -> bytes:
    """Every other edit is the same on many sources; the others are the source's own."""
    lines = text.split(b"\n")
    if rng.random() < 0.5:
        lines[-3:-3] = [b"time-server 10.0.0.%d" % night]
    else:
        lines[rng.randrange(3, len(lines) - 4)] = b"  description %d" % rng.randrange(10**6)
    return b"\n".join(lines)


def _entry(store: FolderStore, name: str, content: bytes, at: datetime) -> Entry:
    source, kept = Source(name=name, procedure="p"), [Kept(Part("active.cfg", content), _STEP)]
    question = question_about(store, source, _PROCEDURE, kept, Masks(), Reader(source.own_names))
    made = judged(question, Done([*answer(question)]))
    return Entry(
        name,
        made.outcome,
        at,
        timedelta(seconds=1),
        made.parts,
        made.state,
        made.added,
        made.removed,
        None,
        made.families,
        made.signature,
    )


def _bare_size(store: FolderStore) -> int:
    """The size without what is there to be found by."""
    (bits,) = store._db.execute("SELECT coalesce(sum(length(bits) + length(more)), 0) FROM signature").fetchone()
    return store.size() - int(bits)


if __name__ == "__main__":
    main()
