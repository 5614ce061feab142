"""`python -m year.keeping`: a year of many sources on a clock that leaps, pruned after rounds and copied to every kind of place.

What happens: sources that fail, a copy that is away for a month, a server that is down, a disk that takes nothing, a
clock that is wrong for some nights. At the end the store and each copy hold what retention says, calculated at once from
all that ever came, byte for byte.
"""

import random
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click
from tests.openssh import running_server
from tests.peers import PEERS

from historon.base.errors import HistoronError
from historon.copies import bring_up_to_date, copies_of, copy_at_hand, note_copied, verify_copy
from historon.estate import Estate, read_estate
from historon.retention import plan, plans_of, prune, prune_by_itself
from historon.standins.lighter import Lighter, LighterFault
from historon.store import Entry, FolderStore, Outcome, Part, State, Store, Version

__all__ = ["Kept", "play"]

START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)
_COPIED_EVERY = 3  # nights, each copy on others
_EVERY = 7  # nights after which a source has changed, about
# When what is wrong, in 365ths of all nights.
_AWAY = (100, 131)  # the second store is not there
_DOWN = (200, 204)  # the bucket is full
_DEAD = (250, 252)  # the disk of the plain files takes nothing
_WRONG = (300, 303)  # this machine's clock is a year ahead
_RETENTION = """
[retention.standard]
all = "14d"
day = "60d"
month = "400d"
noise = "7d"
at_least = 3
[retention.short]
all = "30d"
at_least = 2
[[retention_end]]
"""


@dataclass
class Kept:
    """What came of a year."""

    nights: int = 0
    versions: int = 0
    pruned: int = 0
    blocked: int = 0
    copied: int = 0
    refused: int = 0
    wrong: list[str] = field(default_factory=list)


@dataclass
class _Truth:
    """All that ever came: each version with its content."""

    versions: dict[str, list[Version]] = field(default_factory=dict)
    contents: dict[tuple[str, int], bytes] = field(default_factory=dict)

    def staying(self, estate: Estate, source: str, now: datetime, retention: str) -> set[int]:
        verdicts = plan(self.versions[source], estate.retention[retention], now=now, zone=estate.zone)
        return {one.version.number for one in verdicts if one.stays}


class _Year:
    def __init__(self, folder: Path, sources: int, nights: int, seed: int, lighter: Lighter, server: str) -> None:
        self.folder, self.lighter, self.nights = folder, lighter, nights
        self.rng = random.Random(seed)
        self.names = [f"source-{number}" for number in range(sources)]
        (folder / "key").write_text("bonded-warehouse-7")
        (folder / "key").chmod(0o600)
        rows = "".join(f'[[sources]]\nname = "{name}"\nprocedure = "p"\n' for name in self.names)
        retention = _RETENTION.partition("[[retention_end]]")[0]
        (folder / "historon.toml").write_text(
            '[estate]\nname = "Year"\nprune = "after rounds"\nprune_limit = "10%"\n[defaults]\nretention = "standard"\n'
            f'[procedures.p]\nover = "local"\nsteps = [{{ pull = "x" }}]\n{retention}{rows}'
            '[credentials.bucket]\nuser = "copier"\npassword = "file:key"\n'
            '[copies.second]\npath = "second"\n'
            f'[copies.bucket]\nkind = "bucket"\nurl = "{lighter.url}"\ncredentials = "bucket"\nretention = "short"\n'
            '[copies.files]\nkind = "folder"\npath = "files"\nretention = "short"\n'
            f'[copies.history]\nkind = "git"\npath = "history.git"\n{server}'
        )
        self.estate = read_estate(folder / "historon.toml")
        self.store: Store = FolderStore.create(folder / "store")
        self.truth = _Truth({name: [] for name in self.names})
        self.texts = {name: [f"hostname {name}", *(f"line {n}" for n in range(60))] for name in self.names}
        self.made = Kept()
        self.now = START

    def night(self, number: int) -> None:
        self.now = START + timedelta(days=number)
        with self._as_it_is(number):
            failed = self._round(number)
            told = self.now + timedelta(days=365) if self._is_in(_WRONG, number) else self.now
            result = prune_by_itself(self.estate, self.store, told)
            self.made.pruned += result.pruned.versions if result.pruned else 0
            self.made.blocked += bool(result.blocked)
            if touched := failed & result.by_source.keys():
                self.made.wrong.append(f"night {number}: pruned {sorted(touched)}, which had failed")
            for turn, name in enumerate(self.estate.copies):
                if (number + turn) % _COPIED_EVERY == 0:
                    self._copy(name)
        self.made.nights += 1

    def _is_in(self, span: tuple[int, int], number: int) -> bool:
        begin, end = (self.nights * one // 365 for one in span)
        return begin <= number < max(end, begin + 1)

    def _round(self, number: int) -> set[str]:
        """What a round finds out; which sources failed in it."""
        entries = []
        fails = self.rng.random() < 0.2
        for name in self.names:
            if fails and self.rng.random() < 0.02:
                entries.append(Entry(name, Outcome.FAILED, self.now, timedelta(seconds=1), note="no answer"))
            elif number == 0 or self.rng.random() < 1 / _EVERY:
                entries.append(self._changed(name, number))
        failed = {entry.source for entry in entries if entry.outcome is Outcome.FAILED}
        round_number = self.store.begin_round(self.now, "year")
        recorded = self.store.record(round_number, entries)
        self.store.end_round(round_number, self.now)
        for entry, one in zip(entries, recorded, strict=True):
            if one.number is not None and entry.parts:
                part = entry.parts[0]
                assert isinstance(part, Part)
                version = Version(entry.source, one.number, self.now, entry.state, part.size, 1, 1)
                self.truth.versions[entry.source].append(version)
                self.truth.contents[entry.source, one.number] = part.content
        return failed

    def _changed(self, name: str, number: int) -> Entry:
        noise = number > 0 and self.rng.random() < 0.5
        self.texts[name][1 if noise else self.rng.randrange(2, 60)] = f"night {number} of {name}"
        content = ("\n".join(self.texts[name]) + "\n").encode()
        outcome = Outcome.NEW if number == 0 else Outcome.UNCHANGED if noise else Outcome.CHANGED
        state = State.NOISE if noise else State.GOOD
        return Entry(name, outcome, self.now, timedelta(seconds=1), [Part("a.cfg", content)], state)

    def _copy(self, name: str) -> None:
        try:
            note_copied(self.store, name, self.now, bring_up_to_date(self.estate, name, self.now))
            self.made.copied += 1
        except HistoronError:
            self.made.refused += 1

    @contextmanager
    def _as_it_is(self, number: int) -> Iterator[None]:
        """What is wrong with the places on this night."""
        second, files = self.folder / "second", self.folder / "files"
        self.lighter.break_down(LighterFault.FULL if self._is_in(_DOWN, number) else None)
        away = self._is_in(_AWAY, number)
        dead = self._is_in(_DEAD, number)
        for place, gone in ((second, away), (files, dead)):
            if gone:
                place.rename(f"{place}.gone")
                place.write_text("nothing can be written here")
        try:
            yield
        finally:
            for place, gone in ((second, away), (files, dead)):
                if gone:
                    place.unlink()
                    Path(f"{place}.gone").rename(place)

    def judge(self) -> None:
        """The store and each copy against the truth."""
        # By a person, as the service waits where the last round had a failure.
        plans = plans_of(self.estate, self.estate.sources.values(), self.store, self.now)
        prune(self.store, [one for each in plans.values() for one in each], self.now)
        for name in self.estate.copies:
            self._copy(name)
        for one in copies_of(self.estate, self.store, self.now):
            if one.missing_since is not None or one.left_out:
                self.made.wrong.append(f"{one.name} is not up to date")
        self._judge_store("the store", self.store, "standard", self.now)
        for name in self.estate.copies:
            found = verify_copy(self.estate, name)
            self.made.wrong += [f"{name}: {one}" for one in (*found.ledger, *found.damages)]
            if name == "history":
                continue  # it holds all that was ever committed; its newest commit was compared just now
            with copy_at_hand(name, self.estate) as fetched, closing(FolderStore(fetched.folder)) as there:
                short = name != "second" and self.estate.copies[name].kind != "store"
                self._judge_copy(name, there, "short" if short else "standard")
        self.made.versions = sum(map(len, self.truth.versions.values()))

    def _judge_store(self, what: str, there: Store, retention: str, now: datetime) -> None:
        for name in self.names:
            wanted = self.truth.staying(self.estate, name, now, retention)
            numbers = {one.number for one in there.versions(name)}
            if numbers != wanted:
                self.made.wrong.append(f"{what}: {name} has {sorted(numbers ^ wanted)[:5]} too much or too little")
            self._compare(what, there, name, {number: number for number in numbers & wanted})

    def _judge_copy(self, what: str, there: Store, retention: str) -> None:
        """A copy holds of what the store holds what its own retention keeps, by a source's newest version."""
        for name in self.names:
            held = self.store.versions(name)
            if retention == "short":
                verdicts = plan(held, self.estate.retention["short"], now=held[-1].at, zone=self.estate.zone)
                held = [one.version for one in verdicts if one.stays]
            found = there.versions(name)
            if [one.at for one in found] != [one.at for one in held]:
                self.made.wrong.append(f"{what}: {name} has {len(found)} versions where {len(held)} are to be")
            self._compare(what, there, name, {one.number: of.number for one, of in zip(found, held, strict=False)})

    def _compare(self, what: str, there: Store, name: str, numbers: dict[int, int]) -> None:
        for number, of in numbers.items():
            (part,) = there.parts(name, number)
            if there.read(part) != self.truth.contents[name, of]:
                self.made.wrong.append(f"{what}: {name}@{number} is not what came")


def play(sources: int, nights: int, seed: int) -> Kept:
    """Play it in a folder of its own."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lighter = Lighter(folder / "lighter")
        lighter.in_clear = True
        lighter.start()
        with _far_server(folder) as server:
            year = _Year(folder, sources, nights, seed, lighter, server)
            for number in range(nights):
                year.night(number)
            year.judge()
        lighter.stop()
        year.store.close()
        return year.made


@contextmanager
def _far_server(folder: Path) -> Iterator[str]:
    """A copy on an SFTP server, where this machine has one."""
    if not PEERS["an OpenSSH server"]:
        yield ""
        return
    (folder / "ssh").mkdir()
    with running_server(folder / "ssh") as ssh:
        shutil.copy(ssh.client_key, folder / "client")
        yield (
            f'[credentials.far]\nuser = "{ssh.user}"\nkey = "file:client"\n'
            f'[copies.far]\nserver = "127.0.0.1"\nport = {ssh.port}\npath = "{folder}/far"\n'
            f'credentials = "far"\nhost_key = "{ssh.host_key}"\n'
        )


@click.command()
@click.option("--sources", default=300, show_default=True)
@click.option("--nights", default=365, show_default=True)
@click.option("--seed", default=1, show_default=True)
def main(sources: int, nights: int, seed: int) -> None:
    """A year of keeping."""
    began = time.monotonic()
    made = play(sources, nights, seed)
    print(
        f"{made.nights} nights of {sources} sources in {time.monotonic() - began:.0f} s: {made.versions} versions, "
        f"{made.pruned} pruned, {made.blocked} times blocked, {made.copied} times copied, {made.refused} times refused"
    )
    print("\n".join(made.wrong[:20]) or "every place holds what its retention says, byte for byte")
    raise SystemExit(bool(made.wrong))


if __name__ == "__main__":
    with suppress(KeyboardInterrupt):
        main()
