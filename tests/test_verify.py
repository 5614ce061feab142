"""Reading the store again, and what is found when its bytes have changed."""

import json
import sqlite3

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder

CHANNEL = '[channels.c]\nkind = "file"\npath = "told.jsonl"\ntell = "trouble"\n'


@pytest.fixture
def filled(files_estate: EstateFolder) -> EstateFolder:
    files_estate.write(FILES_ESTATE + CHANNEL)
    for number in range(5):
        (files_estate.path / "data" / "a.conf").write_text(
            "".join(f"line {n} {number * (n == 7)}\n" for n in range(400))
        )
        (files_estate.path / "data" / "b.conf").write_text("always the same\n")
        assert files_estate.run("collect").code == 0
    return files_estate


def _spoil(estate: EstateFolder, statement: str) -> None:
    db = sqlite3.connect(estate.path / "store" / "ledger.sqlite")
    db.execute(statement)
    db.commit()
    db.close()


def _told(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    return (
        [event["kind"] for line in file.read_text().splitlines() for event in json.loads(line)["events"]]
        if file.exists()
        else []
    )


def test_a_whole_store_is_whole_and_nobody_is_told(filled: EstateFolder) -> None:
    done = filled.run("verify")
    assert done.code == 0
    assert "of 5 versions, 1 source: " in done.out
    assert done.out.endswith("all intact\n")
    data = filled.run("verify", "files", "--json").data
    assert (data["versions"], data["rows"], data["ledger"]) == (5, [], [])
    assert data["contents"] < 15, "what versions share is read once"
    assert _told(filled) == []


@pytest.mark.parametrize(
    ("statement", "said"),
    [
        (
            "UPDATE content SET data = zeroblob(length(data)) WHERE size > 1000 AND base IS NULL",
            "files@1 data/a.conf: ",
        ),
        ("UPDATE content SET sha256 = randomblob(32) WHERE id = (SELECT max(id) FROM content)", "SHA-256"),
        ("DELETE FROM content WHERE size > 1000", "files@1: content 2/0 is missing from the store"),
        ("DELETE FROM version WHERE number = 5", "files@5: the last good version is missing"),
    ],
)
def test_damage_is_found_told_once_and_told_to_be_over(filled: EstateFolder, statement: str, said: str) -> None:
    whole = (filled.path / "store" / "ledger.sqlite").read_bytes()
    _spoil(filled, statement)
    for _ in range(2):
        found = filled.run("verify")
        assert found.code == 5
        assert said in found.out
        assert "DAMAGED" in found.out
    assert _told(filled) == ["store-damaged"]
    store = filled.store()
    text = store.recall("", "told store")
    store.close()
    (filled.path / "store" / "ledger.sqlite").write_bytes(whole)
    store = filled.store()
    store.remember("", "told store", text or "")
    store.close()
    assert filled.run("verify").code == 0
    assert _told(filled) == ["store-damaged", "store-verified"]


def test_what_was_never_collected_cannot_be_read(filled: EstateFolder) -> None:
    result = filled.run("verify", "flies")
    assert result.code == 2
    assert 'did you mean "files"?' in result.err
