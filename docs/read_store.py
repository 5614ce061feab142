"""Read one part of one version from a Historon store, without Historon.

    python read_store.py LEDGER SOURCE NUMBER PART > FILE

It needs Python, with its sqlite3, and the package zstandard. docs/store-format.md explains what it does.
"""

import hashlib
import os
import shutil
import sqlite3
import sys
import tempfile

import zstandard


def varints(data: bytes, count: int = -1, at: int = 0) -> tuple[list[int], int]:
    """LEB128 numbers, as many as asked for or all, and where they end."""
    numbers: list[int] = []
    while at < len(data) and len(numbers) != count:
        number = shift = 0
        while True:
            byte = data[at]
            number |= (byte & 127) << shift
            at, shift = at + 1, shift + 7
            if byte < 128:
                break
        numbers.append(number)
    return numbers, at


def record(db: sqlite3.Connection, strand: int, position: int) -> tuple[int | None, int | None, int, bytes, bytes]:
    """Base strand, base position, encoding, digest and data of a content: from its own row, or from a bundle."""
    query = "SELECT base_strand, base, encoding, sha256, data FROM content WHERE strand = ? AND position = ?"
    found = db.execute(query, (strand, position)).fetchone()
    if found:
        return found[0], found[1], found[2], found[3], found[4]
    query = "SELECT data FROM bundle WHERE strand = ? AND first <= ? ORDER BY first DESC LIMIT 1"
    packed = zstandard.ZstdDecompressor().decompress(db.execute(query, (strand, position)).fetchone()[0])
    (count,), at = varints(packed, 1)
    heads = []
    for _ in range(count):
        head, at = varints(packed, 5, at)  # position, base, size, encoding, length of the data
        heads.append(head)
    index = [head[0] for head in heads].index(position)
    digest = packed[at + 32 * index : at + 32 * index + 32]
    start = at + 32 * count + sum(head[4] for head in heads[:index])
    return None, heads[index][1], heads[index][3], digest, packed[start : start + heads[index][4]]


def read(db: sqlite3.Connection, strand: int, position: int) -> bytes:
    """The content: what it is written against, read first, and then its own data."""
    base_strand, base_position, encoding, digest, data = record(db, strand, position)
    whole = encoding in (0, 3)  # written against nothing, whatever a bundle has for its base
    base = b"" if base_position is None or whole else read(db, base_strand or strand, base_position)
    if encoding == 3:
        query = "SELECT data FROM block WHERE id = ?"
        frames = (db.execute(query, (number,)).fetchone()[0] for number in varints(data)[0])
        made = b"".join(zstandard.ZstdDecompressor().decompress(frame) for frame in frames)
    elif encoding == 0:
        made = zstandard.ZstdDecompressor().decompress(data)
    elif encoding == 1:
        prefix = zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
        made = zstandard.ZstdDecompressor(dict_data=prefix, max_window_size=2**31).decompress(data)
    else:
        (count,), at = varints(data, 1)
        numbers, at = varints(data, 3 * count, at)
        made, copied_to = b"", 0
        for taken, jump, length in zip(numbers[::3], numbers[1::3], numbers[2::3], strict=True):
            made, at = made + data[at : at + taken], at + taken
            start = copied_to + (jump >> 1 ^ -(jump & 1))
            copied_to = start + length
            made += base[start:copied_to]
    assert hashlib.sha256(made).digest() == digest, "this content is damaged"  # noqa: S101
    return made


def opened(ledger: str) -> sqlite3.Connection:
    """The ledger; where whoever wrote it was killed, a copy of it, which SQLite brings to its last whole state."""
    db = sqlite3.connect(f"file:{ledger}?mode=ro", uri=True)
    try:
        db.execute("SELECT 1 FROM version")
    except sqlite3.OperationalError:
        folder = tempfile.mkdtemp()
        for ending in ("", "-journal", "-wal"):
            if os.path.exists(ledger + ending):
                shutil.copy(ledger + ending, folder)
        db = sqlite3.connect(os.path.join(folder, os.path.basename(ledger)))
        db.execute("SELECT 1 FROM version")
        shutil.rmtree(folder)  # what is open stays readable
    return db


def main(ledger: str, source: str, number: str, part: str) -> None:
    """Find the part among those of the version, and write it to standard output."""
    db = opened(ledger)
    query = "SELECT parts FROM version JOIN source ON source.id = source WHERE name = ? AND number = ?"
    places, _ = varints(db.execute(query, (source, int(number))).fetchone()[0])
    for strand, position in zip(places[::2], places[1::2], strict=True):
        if db.execute("SELECT name FROM strand WHERE id = ?", (strand,)).fetchone()[0] == part:
            sys.stdout.buffer.write(read(db, strand, position))


main(*sys.argv[1:])
