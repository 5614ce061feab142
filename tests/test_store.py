import gzip
import random
import re
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import historon.store
from historon.base.errors import StoreError
from historon.store import LEDGER, Entry, FolderStore, Outcome, Part, State, Store, still_paused
from tests.conftest import sampled, until_its_end
from tests.store_contract import StoreContract, content, night, take, untested_methods
from tests.store_model import BY_HAND


class TestFolderStore(StoreContract):
    @pytest.fixture
    def store(self, tmp_path: Path) -> Iterator[Store]:
        self.folder = tmp_path / "store"
        self.opened: list[Store] = [FolderStore.create(self.folder)]
        yield self.opened[0]
        for one in self.opened:
            one.close()

    def again(self, store: Store) -> Store:
        store.close()
        self.opened.append(FolderStore(self.folder))
        return self.opened[-1]

    def new(self) -> Store:
        self.opened.append(FolderStore.create(Path(tempfile.mkdtemp(dir=self.folder.parent)) / "store"))
        return self.opened[-1]


def test_the_contract_calls_every_method() -> None:
    assert untested_methods() == set()


def _edited(rng: random.Random, text: bytes) -> bytes:
    lines = text.split(b"\n")
    for _ in range(rng.randrange(1, 4)):
        lines[rng.randrange(len(lines)) :][:1] = []
        lines.insert(rng.randrange(len(lines) + 1), b"line %d" % rng.randrange(10**6))
    return b"\n".join(lines)


@pytest.mark.parametrize(("count", "lines"), sampled(1, [(150, 800), (1100, 30)]))
def test_long_histories_read_back_through_bundles_and_epochs_and_thinning(
    tmp_path: Path, count: int, lines: int
) -> None:
    """Across the bounds of bundles and epochs, and with random versions removed, every byte stays."""
    rng = random.Random(count)
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    text, texts = b"\n".join(b"start %d" % n for n in range(lines)), {}
    for number in range(1, count + 1):
        text = _edited(rng, text)
        texts[number] = text
        take(store, number, Part("a", text))
        if number % 97 == 0:
            gone = rng.sample(list(texts)[:-1], k=len(texts) // 3)
            store.remove([version for version in store.versions("s") if version.number in gone], BY_HAND)
            for one in gone:
                del texts[one]
    store.close()
    store = until_its_end(FolderStore(tmp_path / "store"))
    assert {version.number for version in store.versions("s")} == texts.keys()
    assert all(content(store, number) == {"a": text} for number, text in texts.items())


_ACTIONS = st.lists(
    st.tuples(
        st.sampled_from("abc"),
        st.sampled_from(["edit", "same", "binary", "suspect", "back", "remove"]),
        st.integers(0, 10**6),
    ),
    min_size=1,
    max_size=60,
)


@settings(max_examples=25, deadline=None)
@given(_ACTIONS)
def test_whatever_happens_every_version_reads_back(actions: list[tuple[str, str, int]]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        store = until_its_end(FolderStore.create(Path(folder) / "store"))
        kept: dict[tuple[str, int], bytes] = {}
        now = dict.fromkeys("abc", b"begin\n" * 40)
        for at, (source, action, seed) in enumerate(actions):
            rng = random.Random(seed)
            if action == "remove":
                good = store.state(source).good
                gone = [v for v in store.versions(source) if v.number != good and rng.random() < 0.5]
                assert store.remove(gone, BY_HAND) == len(gone)
                for version in gone:
                    del kept[source, version.number]
                continue
            if action == "back" and kept:
                now[source] = rng.choice(list(kept.values()))
            elif action != "same":
                now[source] = rng.randbytes(rng.randrange(3000)) if action == "binary" else _edited(rng, now[source])
            state = State.SUSPECT if action == "suspect" else State.GOOD
            number = take(store, at, Part("p", now[source]), state=state, source=source).number
            assert number is not None
            kept[source, number] = now[source]
        store.close()
        store = until_its_end(FolderStore(Path(folder) / "store"))
        assert {key: content(store, key[1], key[0])["p"] for key in kept} == kept
        store.close()


def test_an_edited_line_costs_some_dozens_of_bytes_and_pruned_space_comes_back(tmp_path: Path) -> None:
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    rng = random.Random(1)
    big = [rng.randbytes(600_000) for _ in range(8)]
    text = b"\n".join(rng.randbytes(20).hex().encode() for _ in range(1000))
    take(store, 0, Part("a", text))
    before = store.size()
    for number in range(1, 65):
        take(store, number, Part("a", text.replace(b"\n", b" %d\n" % number, 1)))
    store.reclaim()
    assert (store.size() - before) / 64 < 300
    for number, blob in enumerate(big):
        take(store, number, Part("b", blob), source="big")
    full = store.size()
    store.remove(store.versions("big")[:-1], BY_HAND)
    assert store.reclaim() > 0.8 * 7 * 600_000
    assert store.size() < full - 0.8 * 7 * 600_000


def test_what_was_written_in_haste_is_packed_at_leisure_and_reads_the_same(tmp_path: Path) -> None:
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    rng = random.Random(2)
    words = [rng.randbytes(3).hex().encode() for _ in range(300)]
    texts = {f"s{n}": b"\n".join(b" ".join(rng.choices(words, k=6)) for _ in range(900)) for n in range(70)}
    for name, text in texts.items():
        take(store, 0, Part("a", text), source=name)
    store.reclaim()
    small = store.size()
    assert store.reclaim() == 0
    assert store.size() == small
    assert {name: content(store, 1, name)["a"] for name in texts} == texts


def test_only_its_owner_can_read_the_store(tmp_path: Path) -> None:
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    take(store, 0, Part("a", b"1"))
    modes = {path.name: path.stat().st_mode & 0o777 for path in (tmp_path / "store").iterdir()}
    assert set(modes.values()) == {0o600}, modes
    assert (tmp_path / "store").stat().st_mode & 0o777 == 0o700


def test_a_missing_store_is_not_made_by_itself_as_its_disk_may_not_be_mounted(tmp_path: Path) -> None:
    with pytest.raises(StoreError, match="check that its disk is mounted"):
        FolderStore(tmp_path)
    assert not list(tmp_path.iterdir())


def test_a_store_is_never_made_over_another(tmp_path: Path) -> None:
    FolderStore.create(tmp_path).close()
    with pytest.raises(StoreError, match="there is already a store"):
        FolderStore.create(tmp_path)


@pytest.mark.parametrize(
    ("script", "told"),
    [
        ("PRAGMA user_version = 99", "a newer Historon wrote it"),
        ("PRAGMA application_id = 1", "a database of another program"),
    ],
)
def test_a_ledger_of_a_newer_or_another_program_is_refused(tmp_path: Path, script: str, told: str) -> None:
    FolderStore.create(tmp_path).close()
    db = sqlite3.connect(tmp_path / LEDGER)
    db.execute(script)
    db.close()
    with pytest.raises(StoreError, match=told):
        FolderStore(tmp_path)


STORES = Path(__file__).parent / "data" / "stores"


@pytest.mark.parametrize("file", sorted(STORES.iterdir()), ids=lambda file: file.name)
def test_a_store_of_each_schema_is_raised_and_loses_nothing(tmp_path: Path, file: Path) -> None:
    (tmp_path / LEDGER).write_bytes(gzip.decompress(file.read_bytes()))
    store = until_its_end(FolderStore(tmp_path))
    assert store.check() == []
    assert [(one.number, one.state, one.held) for one in store.versions("wall-1")] == [
        (1, State.GOOD, "before the upgrade"),
        (2, State.GOOD, None),
        (3, State.SUSPECT, None),
    ]
    texts = [store.read(part) for number in (1, 2) for part in store.parts("wall-1", number)]
    assert texts == [b"hostname wall-1\nallow a\nallow b\nallow c\n", b"hostname wall-1\nallow a\nallow d\nallow c\n"]
    assert [len(store.parts("tree", number)) for number in (1, 2)] == [3, 2], "the files and their tree"
    assert len(store.rounds()) == 4
    before = store.change_number()
    take(store, 9, Part("x", b"x\n"), source="wall-1")
    assert store.change_number() > before
    store.close()
    db = sqlite3.connect(tmp_path / LEDGER)
    (version,) = db.execute("PRAGMA user_version").fetchone()
    db.close()
    assert any(one.name == f"schema-{version}.sqlite.gz" for one in STORES.iterdir()), "each schema has its test data"


def test_a_pause_that_an_earlier_schema_knew_of_is_still_told(tmp_path: Path) -> None:
    (tmp_path / LEDGER).write_bytes(gzip.decompress((STORES / "schema-4.sqlite.gz").read_bytes()))
    db = sqlite3.connect(tmp_path / LEDGER)
    db.execute("INSERT OR REPLACE INTO memory SELECT id, 'paused', 'purserctl resume' FROM source WHERE name = 'tree'")
    db.execute("INSERT OR REPLACE INTO memory SELECT id, 'paused', '' FROM source WHERE name = 'wall-1'")
    db.commit()
    db.close()
    store = until_its_end(FolderStore(tmp_path))
    assert [(one.source, one.words) for one in still_paused(store, night(1))] == [("tree", "purserctl resume")]
    store.close()


@pytest.mark.parametrize("script", ["PRAGMA user_version = 3", "ALTER TABLE version DROP COLUMN families"])
def test_a_ledger_that_cannot_be_raised_is_refused_and_left_alone(tmp_path: Path, script: str) -> None:
    (tmp_path / LEDGER).write_bytes(gzip.decompress((STORES / "schema-4.sqlite.gz").read_bytes()))
    db = sqlite3.connect(tmp_path / LEDGER)
    if "DROP" in script:
        db.execute("DROP INDEX version_by_change")
    db.execute(script)
    db.commit()
    shape = db.execute("SELECT sql FROM sqlite_schema").fetchall()
    with pytest.raises(StoreError, match="never released; nothing was changed in it"):
        FolderStore(tmp_path)
    assert db.execute("SELECT sql FROM sqlite_schema").fetchall() == shape
    db.close()


def test_the_change_number_is_raised_by_whatever_a_copy_would_lack(tmp_path: Path) -> None:
    store = until_its_end(FolderStore.create(tmp_path))
    seen = [store.change_number()]
    for change in (
        lambda: take(store, 1, Part("a", b"1\n")),
        lambda: take(store, 2, Part("a", b"2\n")),
        lambda: store.hold("s", 1, "why"),
        lambda: store.hold("s", 1, None),
        lambda: store.remove([one for one in store.versions("s") if one.number == 1], BY_HAND),
    ):
        change()
        seen.append(store.change_number())
    assert seen == sorted(set(seen)), "each of them raised it"
    take(store, 3, Part("a", b"2\n"))
    store.remember("s", "topic", "text")
    assert store.change_number() == seen[-1], "what was found unchanged is no change"
    store.close()


def test_damage_is_found_and_named(tmp_path: Path) -> None:
    store = until_its_end(FolderStore.create(tmp_path))
    for number in range(40):
        take(store, number, Part("a", b"x\n" * 500 + b"%d" % number))
    store.close()
    db = sqlite3.connect(tmp_path / LEDGER)
    db.execute("UPDATE bundle SET data = zeroblob(length(data))")
    db.execute("UPDATE content SET data = zeroblob(length(data)) WHERE position = 39")
    db.commit()
    db.close()
    store = until_its_end(FolderStore(tmp_path))
    for number in (5, 40):
        with pytest.raises(StoreError, match="damaged"):
            content(store, number)
    assert content(store, 1)["a"].endswith(b"0")


def test_garbage_instead_of_a_ledger_is_an_error_not_a_crash(tmp_path: Path) -> None:
    (tmp_path / LEDGER).write_bytes(b"not a database" * 100)
    with pytest.raises(StoreError, match="not a ledger, or it is damaged"):
        FolderStore(tmp_path)


def test_the_documented_script_reads_every_version(tmp_path: Path) -> None:
    """Promise 6: the store outlives the tool."""
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    rng, text = random.Random(3), b"begin\n" * 200
    texts = {}
    for number in range(1, 90):
        text = _edited(rng, text) if number % 11 else rng.randbytes(900)
        texts[number] = text
        take(store, number, Part("a.cfg", text))
        take(store, number, Part("a.cfg", b"sibling\n" + text), source="t")
    store.remove(store.versions("s")[:20], BY_HAND)
    store.close()
    script = Path(__file__).parent.parent / "docs" / "read_store.py"
    for number in (21, 40, 64, 65, 89):
        done = subprocess.run(
            [sys.executable, script, tmp_path / "store" / LEDGER, "s", str(number), "a.cfg"],
            capture_output=True,
            check=True,
        )
        assert done.stdout == texts[number]


def test_two_writers_wait_for_each_other(tmp_path: Path) -> None:
    one = until_its_end(FolderStore.create(tmp_path))
    other = until_its_end(FolderStore(tmp_path))
    assert [take(one, 0, Part("a", b"1")).number, take(other, 1, Part("a", b"2")).number] == [1, 2]
    assert take(one, 2, Part("a", b"2")).number == 2
    assert night(1) == one.state("s").good_at


def test_readers_come_and_go_while_a_process_writes_through_several_connections(tmp_path: Path) -> None:
    """A plain open of the ledger once let go of all locks of its process: the next reader removed the log beside it."""
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    script = (
        "import sys, pathlib; from historon.store import FolderStore\n"
        "store = FolderStore(pathlib.Path(sys.argv[1])); print(len(store.versions('s'))); store.close()\n"
    )
    for turn in range(1, 5):
        pen = store.another()
        at = datetime(2026, 1, turn, tzinfo=UTC)
        number = pen.begin_round(at, "test")
        pen.record(number, [Entry("s", Outcome.CHANGED, at, timedelta(), [Part("p", b"%d" % turn)], State.GOOD)])
        pen.end_round(number, at)
        pen.close()
        read = subprocess.run([sys.executable, "-c", script, store._folder], capture_output=True, text=True, check=True)
        assert read.stdout.strip() == str(turn)
        assert (tmp_path / "store" / "ledger.sqlite-wal").exists(), "it is still open here"
        store.remember("s", "x", str(turn))
    store.close()
    again = until_its_end(FolderStore(tmp_path / "store"))
    assert [again.read(part) for n in range(1, 5) for part in again.parts("s", n)] == [b"1", b"2", b"3", b"4"]
    assert again.recall("s", "x") == "4"
    again.close()


def test_nothing_but_the_database_library_ever_opens_the_ledger() -> None:
    """Which the test above can only show for what it does."""
    sources = [*(Path(historon.store.__file__).parent).glob("*.py")]
    assert sources
    opening = re.compile(
        r"self\._file\.(?:open|read_\w+|write_\w+)\(|\bopen\(self\._file\b|LEDGER\)\.(?:open|read_\w+)\("
    )
    assert [file.name for file in sources if opening.search(file.read_text())] == []


def test_contents_at_hand_never_take_more_room_than_they_may(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("historon.store.ledger.contents._CACHE_BYTES", 1000)
    store = until_its_end(FolderStore.create(tmp_path / "store"))
    contents = store._contents
    for number, size in enumerate((400, 600, 1000, 1001, 5000, 300)):
        take(store, number, Part("a", random.Random(size).randbytes(size)))
        assert content(store, number + 1)["a"] == random.Random(size).randbytes(size)
        assert sum(map(len, contents._cache.values())) == contents._cached <= 1000
    assert content(store, 4)["a"] == random.Random(1001).randbytes(1001), "what is not at hand is read"
