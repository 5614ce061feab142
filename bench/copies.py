"""Bringing copies up to date: of a store with 10,000 versions, the first time and after one source has changed."""

import random
import tempfile
import time
from collections.abc import Callable
from contextlib import ExitStack, closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

from tests.cutting import CutLine, cut_line
from tests.openssh import running_server
from tests.peers import PEERS

from bench.history import configuration, nightly
from historon.copies import bring_up_to_date
from historon.estate import Estate, read_estate
from historon.standins.lighter import Lighter
from historon.store import Entry, FolderStore, Outcome, Part

SOURCES, VERSIONS, LINES = 200, 50, 600
_START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)


def main() -> None:
    """Print the time and the bytes of both, kind by kind, and what part of the first the second is (wanted 5 %)."""
    with tempfile.TemporaryDirectory() as name, ExitStack() as stack:
        folder = Path(name)
        lighter = Lighter(folder / "lighter")
        lighter.in_clear = True
        lighter.start()
        stack.callback(lighter.stop)
        line = None
        if PEERS["an OpenSSH server"]:
            (folder / "ssh").mkdir()
            ssh = stack.enter_context(running_server(folder / "ssh"))
            line = stack.enter_context(cut_line(ssh.port))
        (folder / "key").write_text(lighter.key)
        (folder / "key").chmod(0o600)
        far = (
            f'[copies.server]\nserver = "127.0.0.1"\nport = {line.port}\npath = "{folder}/far"\ncredentials = "far"\n'
            f'host_key = "{ssh.host_key}"\n[credentials.far]\nuser = "{ssh.user}"\nkey = "file:{ssh.client_key}"\n'
            if line
            else ""
        )
        (folder / "historon.toml").write_text(
            '[estate]\nname = "Bench"\n[copies.store]\npath = "second"\n'
            '[copies.files]\nkind = "folder"\npath = "files"\n'
            '[copies.git]\nkind = "git"\npath = "history.git"\n'
            f'[copies.bucket]\nkind = "bucket"\nurl = "{lighter.url}"\ncredentials = "bucket"\n'
            f'[credentials.bucket]\nuser = "copier"\npassword = "file:key"\n{far}'
        )
        estate = read_estate(folder / "historon.toml")
        change = _filled(folder / "store")
        first = {one: _timed(estate, one, lighter, line) for one in estate.copies}
        change()
        print(f"copies        {SOURCES * VERSIONS:,} versions; then one source has changed")
        for one in estate.copies:
            seconds, size = first[one]
            again_s, again_size = _timed(estate, one, lighter, line)
            print(
                f"              {one:<7} {seconds:6.2f} s, {size / 1e6:6.1f} MB; then {again_s:5.2f} s, "
                f"{again_size / 1e6:5.2f} MB: {again_s / seconds:.1%} of the time, {again_size / size:.1%} of the bytes"
                " (5%)"
            )


def _filled(folder: Path) -> Callable[[], None]:
    """A store with all the versions; returns what makes one more of one source."""
    rng = random.Random(1)
    texts = [configuration(rng, LINES) for _ in range(SOURCES)]

    def take(night: int, chosen: range) -> None:
        with closing(FolderStore(folder)) as store:
            at = _START + timedelta(days=night)
            entries = []
            for number in chosen:
                texts[number] = nightly(rng, texts[number], night)
                part = Part("active.cfg", ("\n".join(texts[number]) + "\n").encode())
                outcome = Outcome.CHANGED if night else Outcome.NEW
                entries.append(Entry(f"source-{number}", outcome, at, timedelta(seconds=1), [part]))
            number = store.begin_round(at, "bench")
            store.record(number, entries)
            store.end_round(number, at)

    FolderStore.create(folder).close()
    for night in range(VERSIONS):
        take(night, range(SOURCES))
    return lambda: take(VERSIONS, range(1))


def _timed(estate: Estate, name: str, lighter: Lighter, line: CutLine | None) -> tuple[float, int]:
    """The seconds and the bytes written, to the disk or over the line."""
    before, began = _written(name, lighter, line), time.monotonic()
    bring_up_to_date(estate, name, datetime.now(UTC))
    return time.monotonic() - began, _written(name, lighter, line) - before


def _written(name: str, lighter: Lighter, line: CutLine | None) -> int:
    if name == "bucket":
        return lighter.written
    if name == "server":
        return line.carried if line else 0
    if name == "git":
        return sum(
            file.stat().st_size for file in Path(lighter._folder.parent / "history.git").rglob("*") if file.is_file()
        )
    counters = dict(row.split(": ") for row in Path("/proc/self/io").read_text().splitlines())
    return int(counters["wchar"])


if __name__ == "__main__":
    main()
