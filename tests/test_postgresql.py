"""The engine of a store in a PostgreSQL database, against a real server."""

import json
import random
import re
import sqlite3
import subprocess
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from datetime import timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest

from historon.base.errors import StoreError
from historon.estate import SecretRef, StorePlace
from historon.store import LEDGER, Entry, FolderStore, Outcome, Part, Pending, Store
from historon.store.ledger.contents import Contents
from historon.store.ledger.tables import SCHEMA
from historon.store.postgresql import server as server_module
from historon.store.postgresql.server import PostgresStore
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, historon
from tests.postgres import PASSWORD, PostgresServer, running_server
from tests.store_contract import StoreContract, content, night, take, whole_store
from tests.waiting import wait_for


@pytest.fixture(scope="module")
def server() -> Iterator[PostgresServer]:
    with running_server() as one:
        yield one


def _password(folder: Path) -> SecretRef:
    file = folder / "password"
    file.touch(mode=0o600)
    file.write_text(PASSWORD)
    return SecretRef("file:password")


class TestPostgresStore(StoreContract):
    examples = 12

    @pytest.fixture
    def store(self, tmp_path: Path, server: PostgresServer) -> Iterator[Store]:
        self.place = StorePlace(server.database())
        self.folder, self.server = tmp_path, server
        self.opened: list[Store] = [PostgresStore.create(self.place, tmp_path, _password(tmp_path))]
        yield self.opened[0]
        for one in self.opened:
            one.close()

    def new(self) -> Store:
        return PostgresStore.create(StorePlace(self.server.database()), self.folder, SecretRef("file:password"))

    def again(self, store: Store) -> Store:
        store.close()
        self.opened.append(PostgresStore(self.place, self.folder, SecretRef("file:password")))
        return self.opened[-1]


# ---- what may break --------------------------------------------------------------------------------------------------


@pytest.fixture
def store(tmp_path: Path, server: PostgresServer) -> Iterator[PostgresStore]:
    made = PostgresStore.create(StorePlace(server.database()), tmp_path, _password(tmp_path))
    yield made
    made.close()


def _administrator(store: PostgresStore) -> "psycopg.Connection[Any]":
    """Another session, of an administrator."""
    return psycopg.connect(store.place, password=PASSWORD, autocommit=True)


def _end_sessions(store: PostgresStore) -> None:
    """What an administrator, a failover or a firewall does to a session."""
    with _administrator(store) as db:
        db.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'historon'")


def test_a_transaction_whose_connection_breaks_is_done_again_and_once(
    store: PostgresStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    take(store, 0, Part("a", b"1"))
    put, tries = Contents.put, []

    def breaking(self: Contents, source: int, part: Part) -> tuple[int, int]:
        tries.append(part.name)
        if len(tries) == 1:
            _end_sessions(store)
        return put(self, source, part)

    monkeypatch.setattr(Contents, "put", breaking)
    assert take(store, 1, Part("a", b"2")).number == 2
    assert tries == ["a", "a"]
    assert [content(store, number) for number in (1, 2)] == [{"a": b"1"}, {"a": b"2"}]


def test_a_question_is_asked_again_over_a_new_connection(store: PostgresStore) -> None:
    take(store, 0, Part("a", b"1"))
    _end_sessions(store)
    assert content(store, 1) == {"a": b"1"}


@pytest.mark.parametrize("committed", [True, False])
def test_what_broke_while_committing_is_known_by_the_row_of_the_writer(
    store: PostgresStore, monkeypatch: pytest.MonkeyPatch, committed: bool
) -> None:
    _break_at_commit(store, monkeypatch, committed)
    store.outbox.post([Pending("mail", night(0), b"once")], {})
    assert [one.event for one in store.outbox.pending()] == [b"once"]


def test_what_broke_while_committing_is_unknown_where_somebody_else_wrote_since(
    store: PostgresStore, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = store.another()
    _break_at_commit(store, monkeypatch, committed=True, then=lambda: other.remember("s", "t", "x"))
    with pytest.raises(StoreError, match="the result is unknown"):
        store.outbox.post([Pending("mail", night(0), b"once")], {})


def _break_at_commit(
    store: PostgresStore, monkeypatch: pytest.MonkeyPatch, committed: bool, then: Callable[[], object] = lambda: None
) -> None:
    """The next commit is, or is not, heard by the server; its answer never comes."""
    connection = store.transactions.db
    script = connection.script
    broken: list[str] = []

    def breaking(sql: str) -> list[Any]:
        if sql != "COMMIT" or broken:
            return script(sql)
        broken.append(sql)
        if committed:
            script(sql)
        _end_sessions(store)
        then()
        return script("COMMIT")

    monkeypatch.setattr(connection, "script", breaking)


def test_a_transaction_that_the_server_wants_again_is_done_again(store: PostgresStore) -> None:
    tries = []

    def work() -> int:
        tries.append(1)
        if len(tries) < 3:
            raise psycopg.errors.SerializationFailure("could not serialize access")
        return len(tries)

    assert store.transactions.write("try", work) == 3
    with pytest.raises(StoreError, match="cannot try: could not"):
        store.transactions.write("try", _wanted_again)


def _wanted_again() -> None:
    raise psycopg.errors.SerializationFailure("could not serialize access")


def test_who_waits_for_another_writer_is_told_so(store: PostgresStore, monkeypatch: pytest.MonkeyPatch) -> None:
    with _administrator(store) as other, other.transaction():
        other.execute("SELECT value FROM meta WHERE name = 'writer' FOR UPDATE")
        with monkeypatch.context() as patched:
            patched.setattr(store.transactions, "_begin", "BEGIN; SET LOCAL lock_timeout = '100ms';")
            with pytest.raises(StoreError, match="another Historon has been writing for more than 60s"):
                store.remember("s", "t", "x")
    store.remember("s", "t", "x")
    assert store.recall("s", "t") == "x"


def test_nothing_depends_on_a_session(store: PostgresStore) -> None:
    for at in range(12):
        take(store, at, Part("a", b"%d" % at))
    prepared = store.transactions.db.execute("SELECT count(*) FROM pg_prepared_statements").fetchone()
    locks = store.transactions.db.execute("SELECT count(*) FROM pg_locks WHERE locktype = 'advisory'").fetchone()
    assert (prepared[0], locks[0]) == (0, 0)


def test_nobody_can_put_a_table_in_front_of_ours(tmp_path: Path, server: PostgresServer) -> None:
    place = StorePlace(server.database())
    store = PostgresStore.create(place, tmp_path, _password(tmp_path))
    store.remember("s", "topic", "ours")
    with _administrator(store) as db:
        db.execute("CREATE SCHEMA historon")  # which comes first by the default, "$user", public
        db.execute("CREATE TABLE historon.memory AS SELECT * FROM public.memory WHERE false")
    store.close()
    again = PostgresStore(place, tmp_path, SecretRef("file:password"))
    assert again.recall("s", "topic") == "ours"
    again.remember("s", "topic", "still ours")
    assert again.recall("s", "topic") == "still ours"
    again.close()


def test_a_version_is_on_disk_though_the_server_would_not_wait(tmp_path: Path, server: PostgresServer) -> None:
    place = StorePlace(server.database())
    with psycopg.connect(place, password=PASSWORD, autocommit=True) as db:
        db.execute(f"ALTER DATABASE {place.rpartition('/')[2]} SET synchronous_commit = off".encode())
    store = PostgresStore.create(place, tmp_path, _password(tmp_path))
    asked = store.transactions.write("ask", lambda: store.transactions.db.execute("SHOW synchronous_commit").fetchone())
    assert asked == ("on",)
    store.close()


def test_texts_that_the_server_cannot_hold_are_shown_in_another_way(store: PostgresStore) -> None:
    number = store.begin_round(night(0), "test")
    store.record(number, [Entry("s", Outcome.FAILED, night(0), timedelta(), note="it said \0")])
    assert store.state("s").note == "it said \N{SYMBOL FOR NULL}"


def test_what_points_nowhere_is_found(store: PostgresStore) -> None:
    take(store, 0, Part("a", b"1"))
    store.transactions.db.execute("UPDATE source SET good = 7")
    store.transactions.db.execute("DELETE FROM strand")
    assert store.check() == ["the last good version of s, 7, is missing", "content 1/0 belongs to no strand"]


@pytest.fixture
def own_server() -> Iterator[PostgresServer]:
    with running_server() as one:
        yield one


def test_a_round_goes_on_after_the_server_was_started_anew(tmp_path: Path, own_server: PostgresServer) -> None:
    place = StorePlace(own_server.database())
    store = PostgresStore.create(place, tmp_path, _password(tmp_path))
    number = store.begin_round(night(0), "test")
    store.record(number, [Entry("a", Outcome.NEW, night(0), timedelta(), [Part("a", b"1")])])
    own_server.stop("immediate")
    with pytest.raises(StoreError, match=r"cannot read a source: .*efused"):
        store.state("a")
    coming = threading.Thread(target=own_server.start)
    coming.start()
    store.record(number, [Entry("b", Outcome.NEW, night(0), timedelta(), [Part("a", b"2")])])
    store.end_round(number, night(0))
    coming.join()
    assert [visit.source for visit in store.visits(number)] == ["a", "b"]
    assert [content(store, 1, name) for name in ("a", "b")] == [{"a": b"1"}, {"a": b"2"}]
    store.close()


# ---- as a user sees it -----------------------------------------------------------------------------------------------


@pytest.fixture
def served(files_estate: EstateFolder, server: PostgresServer) -> EstateFolder:
    """An estate whose store is a new database, with its tables."""
    _name_store(files_estate, server.database())
    _password(files_estate.path)
    made = files_estate.run("new", ".", "--store-only")
    assert made.code == 0, made.err
    return files_estate


def _name_store(estate: EstateFolder, place: str) -> None:
    named = f'name = "Test"\nstore = "{place}"\nstore_password = "file:password"'
    estate.write(FILES_ESTATE.replace('name = "Test"', named))


def _edit(estate: EstateFolder, text: str) -> None:
    (estate.path / "data" / "a.conf").write_text(text)


@pytest.mark.parametrize(
    ("place", "said"),
    [
        ("mysql://x/y", '"mysql://" is not a supported store'),
        ("postgresql://u:pw-canary-1234@h/d", "a password must not be in the URL"),
        ("postgresql://u@h", "has no database"),
        ("postgresql:///d", "has no host"),
        ("postgresql://u@h:notaport/d", "the URL cannot be read"),
        ("postgresql://u@h/d?sslmode=disable", '"sslmode" is not an option of this URL'),
    ],
)
def test_a_wrong_place_is_refused_in_words_and_makes_no_folder(
    files_estate: EstateFolder, place: str, said: str
) -> None:
    _name_store(files_estate, place)
    before = sorted(files_estate.path.rglob("*"))
    result = files_estate.run("status")
    assert result.code == 4
    assert said in result.err
    assert "pw-canary-1234" not in result.said
    assert sorted(files_estate.path.rglob("*")) == before


def test_commands_work_on_a_database_as_on_a_folder(served: EstateFolder) -> None:
    assert "new" in served.run("collect").out
    _edit(served, "one\nTWO\nthree\n")
    assert "changed" in served.run("collect").out
    assert "+ TWO" in served.run("diff", "files@1", "files@2", "--form", "lines").out
    assert served.run("status").code == 0
    assert served.run("doctor").code == 0
    assert "all intact" in served.run("verify").out
    assert served.run("restore", "files@1", "--to", "back").code == 0
    assert [one.read_text() for one in (served.path / "back").rglob("a.conf")] == ["one\ntwo\nthree\n"]
    assert not list((served.path / "store").glob("spool*"))


def test_mistakes_are_told_in_words(served: EstateFolder, server: PostgresServer) -> None:
    again = served.run("new", ".", "--store-only")
    assert (again.code, "a store; nothing was changed" in again.err) == (5, True)
    (served.path / "password").write_text("pw-canary-1234")
    wrong = served.run("status")
    assert wrong.code == 5
    assert 'password authentication failed for user "historon"' in wrong.err
    assert "pw-canary-1234" not in wrong.said
    (served.path / "password").write_text(PASSWORD)
    _name_store(served, server.database())
    assert "there is no store here" in served.run("status").err
    _name_store(served, place := server.database())
    with psycopg.connect(place, password=PASSWORD, autocommit=True) as db:
        db.execute("CREATE TABLE source (whose text)")
    other = served.run("new", ".", "--store-only")
    assert "has a table source, which is not Historon's; nothing was changed" in other.err


@pytest.mark.parametrize(("schema", "opens"), [(SCHEMA, True), (7, True), (6, False), (SCHEMA + 1, False)])
def test_a_database_of_another_schema_is_opened_where_its_tables_are_the_same(
    served: EstateFolder, server: PostgresServer, schema: int, opens: bool
) -> None:
    _name_store(served, place := server.database())
    assert served.run("new", ".", "--store-only").code == 0
    with psycopg.connect(place, password=PASSWORD, autocommit=True) as db:
        db.execute("UPDATE meta SET value = %s WHERE name = 'schema'", (b"%d" % schema,))
    status = served.run("status")
    assert ("the ledger has schema" in status.err) is not opens


def test_a_folder_becomes_a_database_and_a_folder_again(files_estate: EstateFolder, server: PostgresServer) -> None:
    for text in ("one\n", "one\ntwo\n", "three\n"):
        _edit(files_estate, text)
        assert files_estate.run("collect").code == 0
    files_estate.run("hold", "files@1", "--because", "because")
    folder = files_estate.store()
    known = whole_store(folder)
    folder.close()
    _password(files_estate.path)
    _name_store(files_estate, place := server.database())
    made = files_estate.run("new", ".", "--store-only", "--from-copy", "store")
    assert "new store with 3 versions" in made.out
    database = PostgresStore(StorePlace(place), files_estate.path, SecretRef("file:password"))
    assert whole_store(database) == known
    database.close()
    text = (files_estate.path / "historon.toml").read_text()
    files_estate.write(text + '[copies.away]\npath = "back"\n')
    assert files_estate.run("copies", "--update").code == 0
    back = FolderStore(files_estate.path / "back")
    assert whole_store(back) == known
    back.close()
    files_estate.write(FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nstore = "back"'))
    assert "unchanged" in files_estate.run("collect").out


def test_of_a_copy_that_is_there_only_rows_that_differ_are_fetched(
    store: PostgresStore, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    fetched: list[str] = []
    fetch = server_module._rows_by_key

    def counted(db: Any, table: str, keys: Any) -> Any:
        fetched.extend([table] * len(keys))
        return fetch(db, table, keys)

    monkeypatch.setattr(server_module, "_rows_by_key", counted)
    for at in range(100):
        take(store, at, Part("a", b"line %d\n" % at * 50))
    store.copy_to(tmp_path / "copy")
    store.copy_to(tmp_path / "copy")
    assert fetched == [], "a new copy is written whole, and of one that is up to date nothing is fetched"
    with closing(sqlite3.connect(tmp_path / "copy" / LEDGER)) as copy:
        copy.execute("UPDATE content SET data = x'00' WHERE id = (SELECT max(id) FROM content)")
        copy.commit()
    take(store, 200, Part("a", b"another"))
    store.copy_to(tmp_path / "copy")
    there = FolderStore(tmp_path / "copy")
    assert whole_store(there) == whole_store(store), "damage in the copy is told by its digest, and mended"
    there.close()
    assert 3 < len(fetched) < 10


def test_a_service_takes_over_from_one_that_is_gone(served: EstateFolder) -> None:
    """Both are on one machine here; but whoever holds the lease is believed to be there until it has run out."""
    text = (served.path / "historon.toml").read_text()
    channel = '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\n'
    timetable = '[timetables.t]\nevery = "1h"\n[[sources]]\ntimetable = "t"'
    served.write(text.replace("[[sources]]", timetable) + channel)
    with _service(served, "first.log") as first, _service(served, "second.log") as second:
        wait_for(lambda: _standing_by(served) == 1, "one of them keeps the timetable, the other stands by")
        keeper, other = (
            (first, second) if "waits to take over" in (served.path / "second.log").read_text() else (second, first)
        )
        wait_for(lambda: "service-started" in _told(served), "the one that keeps it has told that it does")
        # Killed in between, it would be reported again once it is sure that nobody is at it any more.
        wait_for(lambda: not served.run("notices", "--json").data["queued"], "and has noted that it did")
        keeper.kill()
        keeper.wait()
        assert "service-died" not in _told(served)
        _let_the_lease_run_out(served)
        # A renewal that was under way when it died may still have come in: then it is a whole minute.
        wait_for(lambda: "service-died" in _told(served), "the other took over, and told", seconds=240)
        other.terminate()
        assert other.wait(120) == 0
    told = Counter(kind for kind in _told(served) if kind.startswith("service"))
    assert told == {"service-started": 2, "service-died": 1, "service-stopped": 1}


def _let_the_lease_run_out(estate: EstateFolder) -> None:
    """As if nearly a minute had gone by."""
    place = re.search(r"postgresql://[^\"]+", (estate.path / "historon.toml").read_text())
    assert place
    with psycopg.connect(place[0], password=PASSWORD, autocommit=True) as db:
        found = db.execute("SELECT value FROM meta WHERE name = 'service'").fetchone()
        assert found
        holder, ends = json.loads(found[0])
        left = json.dumps([holder, ends - 57_000]).encode()
        db.execute("UPDATE meta SET value = %s WHERE name = 'service'", (left,))


@contextmanager
def _service(estate: EstateFolder, log: str) -> Iterator["subprocess.Popen[bytes]"]:
    with (estate.path / log).open("wb") as file:
        service = subprocess.Popen(
            [PROGRAM, "serve", "--wait"], cwd=estate.path, stdout=file, stderr=file, stdin=subprocess.DEVNULL
        )
    try:
        yield service
    finally:
        service.kill()
        service.wait()


def _standing_by(estate: EstateFolder) -> int:
    logs = [(estate.path / name).read_text() for name in ("first.log", "second.log")]
    return sum("waits to take over: another service" in log for log in logs)


def _told(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    notices = [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []
    return [event["kind"] for notice in notices for event in notice["events"]]


@pytest.mark.campaign
@pytest.mark.parametrize("seed", range(1))
def test_a_collection_killed_at_any_instant_loses_nothing(served: EstateFolder, seed: int) -> None:
    """What is reported is there; a round that died is reported; the next one makes up for it."""
    rng = random.Random(seed)
    for number in range(5):
        _edit(served, f"{number}\n" * 50)
        running = subprocess.Popen(
            [PROGRAM, "collect"], cwd=served.path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
        )
        with suppress(subprocess.TimeoutExpired):
            running.wait(0.3 + rng.random())
        running.kill()
        said = running.communicate()[0].decode()
        reported = re.search(r"files\s+(?:first|changed)\s+@(\d+)", said)
        if reported:
            shown = served.run("show", f"files@{reported[1]}").out
            assert f"{number}\n" * 50 in shown
        assert "all intact" in served.run("verify").out or not reported
    assert served.run("collect").code == 0
    assert f"{number}\n" * 50 in served.run("show", "files").out
    assert "all intact" in served.run("verify").out


@pytest.mark.campaign
def test_the_demo_plays_on_a_database(tmp_path: Path, server: PostgresServer) -> None:
    _password(tmp_path)
    url = server.database()
    password = f"file:{tmp_path / 'password'}"
    played = historon("demo", "bw", "--full", "--store", url, "--store-password", password, cwd=tmp_path)
    assert played.code == 0, played.said
    for told in (
        "12 new",
        "12 sources: 12 fresh",
        "now matches office-edge-1@6 (noise ignored)",
        "The demo is over",
    ):
        assert told in played.out, told
    assert PASSWORD not in played.said
    with closing(PostgresStore(StorePlace(url), tmp_path, SecretRef("file:password"))) as store:
        assert len(store.states()) == 12
        assert store.versions("office-edge-1")
