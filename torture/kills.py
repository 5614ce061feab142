"""`python -m torture.kills`: kill -9 at every step that changes what is on disk, and by chance; then what is left is judged.

In each scenario one thing is done that is killed at one point, then done once more without help, and judged against the
truth: nothing lost, nothing twice, nothing half, nothing left over. Then it is killed at the next point, until it comes
to its end.
"""

import hashlib
import itertools
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from functools import partial
from pathlib import Path
from typing import ClassVar

import click
from tests.imap import imap_server
from tests.openssh import running_server
from tests.peers import PEERS
from tests.postgres import PASSWORD as DATABASE_PASSWORD
from tests.postgres import running_server as running_database
from tests.prefork import Prefork

import historon
from historon.base.errors import StoreError
from historon.copies import bring_up_to_date, copy_at_hand, note_copied
from historon.estate import read_estate
from historon.standins.background import Background
from historon.standins.capstan import Capstan, TelnetDoor
from historon.standins.fairlead import Fairlead
from historon.standins.lighter import Lighter
from historon.standins.purser import Purser
from historon.standins.thole import Thole
from historon.store import Entry, FolderStore, Outcome, Part, State, create_store
from torture.serving import ContentServer
from torture.victim import arm, arm_clock

__all__ = ["SCENARIOS", "Campaign", "Scenario", "campaign"]

START = datetime.now(UTC) - timedelta(days=15)
_HEAD = """
[estate]
name = "Kills"
[credentials.reader]
user = "config-reader"
password = "file:password"
[channels.record]
kind = "file"
path = "told.jsonl"
"""
_SOURCE = '[[sources]]\nname = "s"\nprocedure = "p"\n'


class TroubleError(AssertionError):
    """Something is not as it must be."""


def must(holds: object, words: str) -> None:
    """Raise TroubleError unless it holds."""
    if not holds:
        raise TroubleError(words)


class Scenario(ABC):
    """Something that is done again and again in one folder, and killed."""

    name: ClassVar[str]
    command: ClassVar[Sequence[str]] = ("collect",)
    needs: ClassVar[str] = ""  # a real peer without which it cannot be played
    well: ClassVar[tuple[int, ...]] = (0,)  # how it ends where nothing is in the way

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        (folder / "password").write_text("harbour-light")
        (folder / "password").chmod(0o600)

    @abstractmethod
    def prepare(self) -> None:
        """Something new to be done."""

    @abstractmethod
    def judge(self, *, whole: bool) -> int:
        """What is there after it was done once more, against the truth; how many versions were read. TroubleError.

        Unless the whole of it is to be judged, old versions are only counted.
        """

    def words(self) -> Sequence[str]:
        """What is typed; it may depend on what was done until then."""
        return self.command

    def judge_killed(self) -> None:  # noqa: B027 (most have nothing to say here)
        """What must hold right after the kill already."""

    def close(self) -> None:  # noqa: B027 (few listen to anything)
        """Stop whatever listens."""

    def _estate(self, procedure: str, source: str = "", head: str = "") -> None:
        (self.folder / "historon.toml").write_text(f"{_HEAD}{head}[procedures.p]\n{procedure}{_SOURCE}{source}")
        self._make_store()

    def _make_store(self, copy: Path | None = None) -> None:
        """Where the estate file says, empty or of a copy."""
        create_store(read_estate(self.folder / "historon.toml"), copy).close()


# ---- collecting what a source has ------------------------------------------------------------------------------------


class _Collecting(Scenario):
    """A source whose content is another one each time: each is to become one version."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.truth: list[bytes] = []
        self.state = folder / "content"
        self.set_up()

    @abstractmethod
    def set_up(self) -> None:
        """Write the estate, start what is asked."""

    def content(self, turn: int) -> bytes:
        """What the source has at its turn."""
        body = "".join(f"interface port-{n}\n  description berth {n}\n" for n in range(30))
        return f"hostname s\nturn {turn}\n{body}end\n".encode()

    def prepare(self) -> None:
        """See Scenario."""
        self.truth.append(self.content(len(self.truth)))
        self.state.write_bytes(self.truth[-1])

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        store = FolderStore(self.folder / "store")
        try:
            numbers = [version.number for version in store.versions("s")]
            must(numbers == [*range(1, len(self.truth) + 1)], f"versions {numbers} where {len(self.truth)} are to be")
            must(store.state("s").good == len(numbers), "the last good version is another one")
            for number in numbers if whole else numbers[-3:]:
                must(self._kept(store, number) == self.truth[number - 1], f"@{number} is not what it was")
        finally:
            store.close()
        self.judge_folder()
        return len(numbers if whole else numbers[-3:])

    def _kept(self, store: FolderStore, number: int) -> bytes:
        (content,) = [store.read(part) for part in store.parts("s", number) if not part.name.endswith(".tree")]
        return content

    def judge_folder(self) -> None:
        """Nothing is left over in the store's folder."""
        spool = self.folder / "store" / "spool"
        must(not spool.exists() or not [*spool.iterdir()], "the spool is not empty")
        strange = {path.name for path in (self.folder / "store").iterdir()} - _IN_A_STORE
        must(not strange, f"left over: {strange}")


_IN_A_STORE = {"ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm", "reserve", "spool", "writing", "blocks"}


class File(_Collecting):
    """One file of this machine."""

    name = "file"

    def set_up(self) -> None:
        """See _Collecting."""
        self._estate('over = "local"\nsteps = [{ pull = "content" }]\n')


class LargeFile(_Collecting):
    """A part that is kept in blocks, by way of the spool."""

    name = "large file"

    def set_up(self) -> None:
        """See _Collecting."""
        self._estate('over = "local"\nsteps = [{ pull = "content", as = "content" }]\n')

    def content(self, turn: int) -> bytes:
        """More than is kept in the ledger itself."""
        return random.Random(1).randbytes(9_000_000) + random.Random(turn + 2).randbytes(200_000)


class Tree(_Collecting):
    """A folder with its metadata."""

    name = "tree"

    def set_up(self) -> None:
        """See _Collecting."""
        (self.folder / "data").mkdir()
        self.state = self.folder / "data" / "content"
        self._estate('over = "local"\nsteps = [{ pull = "data" }]\n')


class Program(_Collecting):
    """What a program prints."""

    name = "program"

    def set_up(self) -> None:
        """See _Collecting."""
        self._estate('over = "local"\nsteps = [{ keep = ["cat", "content"], as = "export.txt" }]\n')


class _Listening(_Collecting):
    """A stand-in that speaks its protocol, in a process of its own."""

    kind: ClassVar[str]
    procedure: ClassVar[str]

    def set_up(self) -> None:
        """See _Collecting."""
        self.state.write_bytes(self.content(0))
        root = Path(__file__).parent.parent
        self._process = subprocess.Popen(
            [sys.executable, "-c", "from torture.kills import stand; stand()", self.kind, self.folder],
            cwd=root,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        assert self._process.stdout is not None
        told = json.loads(self._process.stdout.readline())
        key = "certificate" if self.kind == "https" else "host_key"
        pin = "" if self.kind == "telnet" else f'{key} = "{told["fingerprint"]}"\n'
        source = f'address = "127.0.0.1"\nport = {told["port"]}\n{pin}credentials = "reader"\n'
        self._estate(self.procedure, source)

    def close(self) -> None:
        """See Scenario."""
        self._process.communicate()


class Shell(_Listening):
    """A router over SSH."""

    name = "ssh shell"
    kind = "capstan"
    procedure = (
        "over = \"ssh-shell\"\nprompt = '^\\S+# ?$'\npager = '-- more --'\n"
        'steps = [{ send = "paging off" }, { keep = "list settings active", as = "running.cfg", ends_with = "end" }]\n'
        "noise = ['^! saved at .*']\n"
    )


class Telnet(_Listening):
    """The same router over Telnet."""

    name = "telnet"
    kind = "telnet"
    procedure = (
        "over = \"telnet\"\nprompt = '^\\S+# ?$'\npager = '-- more --'\n"
        'steps = [{ send = "paging off" }, { keep = "list settings active", as = "running.cfg", ends_with = "end" }]\n'
        "noise = ['^! saved at .*']\n"
    )


class Netconf(_Listening):
    """A switch over NETCONF."""

    name = "netconf"
    kind = "thole"
    procedure = 'over = "netconf"\nsteps = [{ keep = "get-config running", as = "running.xml", canonical = true }]\n'

    def content(self, turn: int) -> bytes:
        """XML, as the program writes it in one form."""
        return f'<a xmlns="urn:example:a">\n  <b>{turn}</b>\n</a>\n'.encode()


class Web(_Listening):
    """A web server."""

    name = "https"
    kind = "https"
    procedure = 'over = "https"\nauth = "basic"\nsteps = [{ pull = "/export", as = "export.txt" }]\n'


class Archive(_Listening):
    """A balancer that makes an archive, has it fetched over SFTP, and removed."""

    name = "archive over sftp"
    kind = "fairlead"
    procedure = (
        'over = "ssh-exec"\nsteps = [{ send = "archive make /export/a.tgz" }, { pull = "export/a.tgz", as = "a.tgz" },\n'
        '  { tidy = "archive remove /export/a.tgz" }]\n'
    )

    def _kept(self, store: FolderStore, number: int) -> bytes:
        import gzip
        import io
        import tarfile

        with tarfile.open(fileobj=io.BytesIO(gzip.decompress(super()._kept(store, number)))) as archive:
            member = archive.extractfile("content")
            assert member is not None
            return member.read()

    def judge_folder(self) -> None:
        """Nothing is left over on the device either."""
        super().judge_folder()
        must(not [*(self.folder / "export").iterdir()], "the device still has its archive")


class Paused(_Collecting):
    """A file server that is paused while its files are read."""

    name = "paused service"

    def set_up(self) -> None:
        """See _Collecting."""
        self._purser = Purser(self.folder / "purser")
        self.state = self.folder / "purser" / "data" / "content"
        control = self._purser.control
        self._estate(
            'over = "local"\n[[procedures.p.steps]]\n'
            f'pause = ["{control}", "pause"]\nresume = ["{control}", "resume"]\n'
            f'probe = ["{control}", "state"]\nuntil = {{ holds = [\'is running\'] }}\nevery = "10ms"\n'
            'steps = [{ pull = "purser/data" }]\n'
        )

    def judge_folder(self) -> None:
        """Nobody has to resume it by hand."""
        super().judge_folder()
        must(self._purser.running, "the service is still paused")


def stand() -> None:
    """Be a stand-in until standard input ends: says its port and fingerprint."""
    kind, folder = sys.argv[1], Path(sys.argv[2])

    def text() -> str:
        return (folder / "content").read_text()

    background = Background()
    device: Capstan | Thole | Fairlead | ContentServer
    if kind == "https":
        device = ContentServer("s", folder / "tls", lambda: text().encode())
        device.start()
    else:
        made: dict[str, Callable[[], Capstan | Thole | Fairlead]] = {
            "capstan": lambda: Capstan("s", text),
            "thole": lambda: Thole("s", text),
            "fairlead": lambda: Fairlead("s", folder, lambda: {"content": text()}),
        }
        device = made["capstan" if kind == "telnet" else kind]()
        door = TelnetDoor(device) if kind == "telnet" and isinstance(device, Capstan) else device
        background.run(door.start())
        device.port = door.port
    print(json.dumps({"port": device.port, "fingerprint": device.fingerprint}), flush=True)
    sys.stdin.read()
    os._exit(0)


# ---- collecting what arrives -----------------------------------------------------------------------------------------


class _Arriving(_Collecting):
    """Two exports are pushed each time, and another one under a name of before."""

    then: ClassVar[str]

    def prepare(self) -> None:
        """See Scenario."""
        for _ in range(2):
            self.push(len(self.truth))
            self.truth.append(self.content(len(self.truth)))

    @abstractmethod
    def push(self, turn: int) -> None:
        """Let the export of this turn arrive."""

    def waiting(self) -> list[Path]:
        """What lies where exports arrive."""
        return [*(self.folder / "drop").glob("export-*")]

    def judge_folder(self) -> None:
        """What was taken is where it belongs."""
        super().judge_folder()
        here, taken = self.waiting(), [*(self.folder / "drop" / "taken").glob("*")]
        if self.then == "keep":
            must(not taken, "something was put away that was to be kept")
        else:
            must(not here, f"{len(here)} that were taken still wait")
        hidden = [path.name for path in (self.folder / "drop").iterdir() if path.name.startswith(".")]
        must(not hidden, f"left over: {hidden}")
        if self.then == "move":
            moved = sorted(path.read_bytes() for path in taken if not path.name.endswith(".done"))
            must(moved == sorted(self.truth), f"{len(moved)} of {len(self.truth)} were moved")


class Dropped(_Arriving):
    """Files that are pushed into a folder."""

    name = "drop folder, remove"
    then = "remove"

    def set_up(self) -> None:
        """See _Collecting."""
        (self.folder / "drop").mkdir()
        self._estate(
            f'over = "drop-folder"\nfolder = "drop"\nthen = "{self.then}"\n'
            'steps = [{ pull = "export-*.txt", as = "export.txt", complete = "marker:{file}.done" }]\n'
        )

    def push(self, turn: int) -> None:
        """See _Arriving: the names come again after a while, as on devices that count to nine."""
        number = turn % 10 if self.then == "remove" else turn
        file = self.folder / "drop" / f"export-{number}.txt"
        file.write_bytes(self.content(turn))
        instant = START.timestamp() + turn
        os.utime(file, (instant, instant))
        marker = file.with_name(f"{file.name}.done")
        marker.write_bytes(b"")
        os.utime(marker, (instant + 1, instant + 1))


class DroppedMoved(Dropped):
    """Files that are moved away once they are taken."""

    name = "drop folder, move"
    then = "move"


class DroppedKept(Dropped):
    """Files that stay where they are."""

    name = "drop folder, keep"
    then = "keep"

    def prepare(self) -> None:
        """See Scenario: where nothing was taken yet, the newest alone is."""
        if self.truth:
            super().prepare()
        else:
            self.push(0)
            self.truth.append(self.content(0))


def _letter(turn: int, content: bytes) -> EmailMessage:
    letter = EmailMessage()
    letter["From"], letter["Subject"] = "s@brackwater.example", "export"
    letter["Date"], letter["Message-ID"] = START + timedelta(minutes=turn), f"<{turn}@brackwater.example>"
    letter.add_attachment(content, maintype="text", subtype="plain", filename="export.txt")
    return letter


class Mailed(_Arriving):
    """Letters in a Maildir."""

    name = "mailbox, remove"
    then = "remove"

    def set_up(self) -> None:
        """See _Collecting."""
        for name in ("new", "cur", "tmp"):
            (self.folder / "drop" / name).mkdir(parents=True)
        self._estate(
            f'over = "mailbox"\nfolder = "drop"\nthen = "{self.then}"\n'
            'steps = [{ pull = "*.txt", as = "export.txt" }]\n'
        )

    def push(self, turn: int) -> None:
        """See _Arriving."""
        letter = _letter(turn, self.content(turn))
        file = self.folder / "drop" / "new" / f"{turn:05}.letter"
        file.write_bytes(bytes(letter))
        instant = START.timestamp() + turn
        os.utime(file, (instant, instant))

    def waiting(self) -> list[Path]:
        """See _Arriving."""
        return [path for name in ("new", "cur") for path in (self.folder / "drop" / name).iterdir()]


class MailedMoved(Mailed):
    """Letters that are moved to a folder of their mailbox, flagged as seen."""

    name = "mailbox, move"
    then = "move"

    def judge_folder(self) -> None:
        """What was taken is there, and nothing else happened to it."""
        _Collecting.judge_folder(self)
        must(not self.waiting(), "something is left where letters arrive")
        names = sorted(path.name for path in (self.folder / "drop" / ".taken" / "cur").iterdir())
        must(names == [f"{turn:05}.letter:2,S" for turn in range(len(self.truth))], f"the letters are {names[-3:]}")
        must(not self.waiting()[len(names) :], "letters that were taken still wait")


class ImapRemoved(_Arriving):
    """Letters on a mail server, which are removed there."""

    name = "IMAP, remove"
    then = "remove"
    needs = "a mail server, as root"

    def set_up(self) -> None:
        """See _Collecting."""
        self._closing = ExitStack()
        self._server = self._closing.enter_context(imap_server("harbour-light"))
        to = 'move_to = "Taken"\n' if self.then == "move" else ""
        self._estate(
            f'over = "mailbox"\nthen = "{self.then}"\n{to}steps = [{{ pull = "*.txt", as = "export.txt" }}]\n',
            f'address = "127.0.0.1"\nport = {self._server.port}\ncredentials = "reader"\ncertificate = "{self._server.fingerprint}"\n',
        )

    def close(self) -> None:
        """See Scenario."""
        self._closing.close()

    def push(self, turn: int) -> None:
        """See _Arriving."""
        self._server.deliver(_letter(turn, self.content(turn)), f"{int(START.timestamp()) + turn}.{turn}")

    def judge_folder(self) -> None:
        """What was taken is where it belongs."""
        _Collecting.judge_folder(self)
        box = self._server.maildir
        here = [
            path
            for name in ("new", "cur")
            for path in (box / name).iterdir()
            if ",S" not in path.name and "T" not in path.name.partition(":2,")[2]
        ]
        must(not here, f"{len(here)} that were taken still wait")
        moved = [path for name in ("new", "cur") for path in (box / ".Taken" / name).glob("*")]
        must(self.then == "remove" or len(moved) == len(self.truth), f"{len(moved)} of {len(self.truth)} were moved")


class ImapMoved(ImapRemoved):
    """Letters on a mail server, which are moved there."""

    name = "IMAP, move"
    then = "move"


class Served(Dropped):
    """The service, doing what is due."""

    name = "serve"
    command = ("serve", "--once")

    def set_up(self) -> None:
        """See _Collecting."""
        (self.folder / "drop").mkdir()
        head = '[timetables.often]\nevery = "1m"\n[defaults]\ntimetable = "often"\n'
        self._estate(
            'over = "drop-folder"\nfolder = "drop"\nthen = "remove"\n'
            'steps = [{ pull = "export-*.txt", as = "export.txt", complete = "marker:{file}.done" }]\n',
            head=head,
        )

    def prepare(self) -> None:
        """See Scenario: it is due, as it was last dealt with days ago."""
        super().prepare()
        store = FolderStore(self.folder / "store")
        store.remember("s", "timetable", START.isoformat())
        store.close()


# ---- what is done to a store -----------------------------------------------------------------------------------------


class _OnStore(Scenario):
    """Something done to a store of some sources with many versions, which is made again each time."""

    sources: ClassVar[int] = 3
    versions: ClassVar[int] = 12
    head: ClassVar[str] = ""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.truth: dict[tuple[str, int], bytes] = {}
        (folder / "historon.toml").write_text(
            _HEAD.replace('name = "Kills"', 'name = "Kills"\nprune_limit = "100%"')
            + self.head
            + '[procedures.p]\nover = "local"\nsteps = [{ pull = "x" }]\n'
            + "".join(f'[[sources]]\nname = "s{n}"\nprocedure = "p"\nretention = "r"\n' for n in range(self.sources))
        )
        self._made = folder / "made"
        self._fill(FolderStore.create(self._made), range(self.versions))

    def _fill(self, store: FolderStore, turns: Sequence[int]) -> None:
        for turn in turns:
            at = START + timedelta(days=turn)
            number = store.begin_round(at, "hand")
            entries = []
            for n in range(self.sources):
                content = f"source {n}\nturn {turn}\n".encode() * 50 + random.Random(turn * 7 + n).randbytes(300)
                self.truth[f"s{n}", turn + 1] = content
                outcome = Outcome.CHANGED if turn else Outcome.NEW
                entries.append(Entry(f"s{n}", outcome, at, timedelta(), [Part("x", content)], State.GOOD))
            store.record(number, entries)
            store.end_round(number, at)
        store.close()

    def prepare(self) -> None:
        """See Scenario."""
        shutil.rmtree(self.folder / "store", ignore_errors=True)
        shutil.copytree(self._made, self.folder / "store")

    def read_all(self, folder: Path, wanted: set[tuple[str, int]]) -> int:
        """All versions there are, which are to be these."""
        store = FolderStore(folder)
        try:
            there = {(f"s{n}", version.number) for n in range(self.sources) for version in store.versions(f"s{n}")}
            must(there == wanted, f"{len(there)} versions where {len(wanted)} are to be, or others")
            for source, number in there:
                (part,) = store.parts(source, number)
                must(store.read(part) == self.truth[source, number], f"{source}@{number} is not what it was")
        finally:
            store.close()
        return len(there)


class Pruned(_OnStore):
    """What a retention removes."""

    name = "prune"
    command = ("prune", "--yes")
    head = '[retention.r]\nall = "1ms"\nat_least = 4\n'

    def judge_killed(self) -> None:
        """See Scenario: what stays by the plan is there at every moment."""
        store = FolderStore(self.folder / "store")
        for n in range(self.sources):
            there = {version.number for version in store.versions(f"s{n}")}
            must(there >= self._staying, f"s{n} lost one that stays")
            for number in there:
                (part,) = store.parts(f"s{n}", number)
                must(store.read(part) == self.truth[f"s{n}", number], f"s{n}@{number} is not what it was")
        store.close()

    @property
    def _staying(self) -> set[int]:
        return set(range(self.versions - 3, self.versions + 1))

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        wanted = {(f"s{n}", number) for n in range(self.sources) for number in self._staying}
        return self.read_all(self.folder / "store", wanted)


class Copied(_OnStore):
    """A copy that is brought up to date."""

    name = "copies"
    command: ClassVar[Sequence[str]] = ("copies", "--update")
    head = '[retention.r]\nall = "90d"\n[copies.second]\npath = "second"\n'

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self._before = folder / "before"
        shutil.copytree(self._made, self._before)
        self._old = set(self.truth)
        self._fill(FolderStore(self._made), range(self.versions, self.versions + 3))

    def prepare(self) -> None:
        """See Scenario."""
        super().prepare()
        shutil.rmtree(self.folder / "second", ignore_errors=True)
        shutil.copytree(self._before, self.folder / "second")

    def judge_killed(self) -> None:
        """See Scenario: at every moment the copy is the one before or the new one, whole."""
        store = FolderStore(self.folder / "second")
        newest = len(store.versions("s0"))
        store.close()
        self.read_all(self.folder / "second", set(self.truth) if newest > self.versions else self._old)

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        strange = {path.name for path in (self.folder / "second").iterdir()} - _IN_A_STORE - {"estate"}
        must(not strange, f"left over in the copy: {strange}")
        settings = {path.name for path in (self.folder / "second" / "estate").iterdir()}
        must(settings == {"historon.toml"}, f"the estate's own files in the copy: {settings}")
        self.read_all(self.folder / "store", set(self.truth))
        return self.read_all(self.folder / "second", set(self.truth))


class MadeFromCopy(Copied):
    """An estate that is made of a copy, on the day on which all else is lost."""

    name = "new from a copy"
    command = ("new", "anew", "--from-copy", "kept")

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        kept = folder / "kept"
        shutil.copytree(self._made, kept)
        (kept / "estate").mkdir()
        shutil.copy(folder / "historon.toml", kept / "estate" / "historon.toml")

    def prepare(self) -> None:
        """See Scenario."""
        super().prepare()
        shutil.rmtree(self.folder / "anew", ignore_errors=True)

    def words(self) -> Sequence[str]:
        """See Scenario: what was made is not made again."""
        if (self.folder / "anew" / "historon.toml").exists():
            return ("verify", "--estate", "anew")
        return self.command

    def judge_killed(self) -> None:
        """See Scenario: what calls itself an estate is whole."""
        if (self.folder / "anew" / "historon.toml").exists():
            self.read_all(self.folder / "anew" / "store", set(self.truth))

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        left = {path.name for path in (self.folder / "anew").iterdir()} - {"historon.toml", "keys", "store"}
        must(not left, f"left over: {left}")
        return self.read_all(self.folder / "anew" / "store", set(self.truth))


class Rescued(MadeFromCopy):
    """The same of a copy of which one version is damaged."""

    name = "new from a damaged copy"
    well = (0, 3)

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        with closing(sqlite3.connect(folder / "kept" / "ledger.sqlite")) as db:
            db.execute("UPDATE content SET data = CAST('x' AS BLOB) WHERE id = (SELECT max(id) FROM content)")
            db.commit()

    def read_all(self, folder: Path, wanted: set[tuple[str, int]]) -> int:
        """All but the damaged one, the newest of a source."""
        if folder.parent.name != "anew":
            return super().read_all(folder, wanted)
        return super().read_all(folder, wanted - {(f"s{self.sources - 1}", self.versions + 3)})


class _CopiedFar(Copied):
    """The same, where the copy has to be fetched to be looked at."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.set_up()
        shutil.copytree(self._before, folder / "store")
        self._estate_file = read_estate(folder / "historon.toml")
        with closing(FolderStore(folder / "store")) as store:
            note_copied(store, "second", START, bring_up_to_date(self._estate_file, "second", START))
        self.keep()

    @abstractmethod
    def set_up(self) -> None:
        """Start what the copy is in, and say so in the estate file."""

    @abstractmethod
    def keep(self) -> None:
        """Keep what is there now, before what is killed."""

    @abstractmethod
    def give_back(self) -> None:
        """Make the place what it was then."""

    @property
    def left_over(self) -> set[str]:
        """What is there though nothing needs it."""
        return set()

    def prepare(self) -> None:
        """See Scenario."""
        _OnStore.prepare(self)
        self.give_back()

    def judge_killed(self) -> None:
        """See Scenario: at every moment the copy is the one before or the new one, whole."""
        with copy_at_hand("second", self._estate_file) as fetched:
            with closing(FolderStore(fetched.folder)) as store:
                newest = len(store.versions("s0"))
            self.read_all(fetched.folder, set(self.truth) if newest > self.versions else self._old)

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        must(not self.left_over, f"left over in the copy: {self.left_over}")
        self.read_all(self.folder / "store", set(self.truth))
        with copy_at_hand("second", self._estate_file) as fetched:
            return self.read_all(fetched.folder, set(self.truth))


class CopiedToBucket(_CopiedFar):
    """A copy in a bucket that is brought up to date."""

    name = "copies to a bucket"

    def set_up(self) -> None:
        """See _CopiedFar."""
        self._server = Lighter(self.folder / "lighter")
        self._server.in_clear, self._server.key = True, "harbour-light"
        self._server.start()
        text = (self.folder / "historon.toml").read_text()
        copy = f'[copies.second]\nkind = "bucket"\nurl = "{self._server.url}"\ncredentials = "copier"\n'
        account = '[credentials.copier]\nuser = "copier"\npassword = "file:password"\n'
        (self.folder / "historon.toml").write_text(text.replace('[copies.second]\npath = "second"\n', copy + account))

    def keep(self) -> None:
        """See _CopiedFar."""
        self._kept = dict(self._server.objects)

    def give_back(self) -> None:
        """See _CopiedFar."""
        self._server.objects = dict(self._kept)

    @property
    def left_over(self) -> set[str]:
        """See _CopiedFar."""
        contents = {name for name in self._server.objects if "/contents/" in name}
        return {name for name in contents if name.rpartition("/")[2] not in self._digests()}

    def _digests(self) -> set[str]:
        return {hashlib.sha256(content).hexdigest() for content in self.truth.values()}

    def close(self) -> None:
        """See Scenario."""
        self._server.stop()


class CopiedToServer(CopiedToBucket):
    """A copy on a server, over SFTP, that is brought up to date."""

    name = "copies to a server"
    needs = "an OpenSSH server"

    def set_up(self) -> None:
        """See _CopiedFar."""
        (self.folder / "ssh").mkdir()
        self._running = running_server(self.folder / "ssh")
        ssh = self._running.__enter__()
        self._there = self.folder / "there"
        text = (self.folder / "historon.toml").read_text()
        copy = (
            f'[copies.second]\nserver = "127.0.0.1"\nport = {ssh.port}\npath = "{self._there}"\n'
            f'credentials = "copier"\nhost_key = "{ssh.host_key}"\n'
        )
        account = f'[credentials.copier]\nuser = "{ssh.user}"\nkey = "file:{ssh.client_key}"\n'
        (self.folder / "historon.toml").write_text(text.replace('[copies.second]\npath = "second"\n', copy + account))

    def keep(self) -> None:
        """See _CopiedFar."""
        shutil.copytree(self._there, self.folder / "there before")

    def give_back(self) -> None:
        """See _CopiedFar."""
        shutil.rmtree(self._there)
        shutil.copytree(self.folder / "there before", self._there)

    @property
    def left_over(self) -> set[str]:
        """See _CopiedFar."""
        contents = {file.name for file in (self._there / "contents").rglob("*") if file.is_file()}
        return (contents - self._digests()) | {file.name for file in self._there.glob(".historon.*")}

    def close(self) -> None:
        """See Scenario."""
        self._running.__exit__(None, None, None)


class CopiedAsFiles(_CopiedFar):
    """A copy in plain files that is brought up to date."""

    name = "copies as files"
    head = '[retention.r]\nall = "90d"\n[copies.second]\nkind = "folder"\npath = "second"\n'

    def set_up(self) -> None:
        """See _CopiedFar."""

    def keep(self) -> None:
        """See _CopiedFar."""
        shutil.rmtree(self.folder / "second before", ignore_errors=True)
        shutil.copytree(self.folder / "second", self.folder / "second before")

    def give_back(self) -> None:
        """See _CopiedFar."""
        shutil.rmtree(self.folder / "second", ignore_errors=True)
        shutil.copytree(self.folder / "second before", self.folder / "second")

    def judge_killed(self) -> None:
        """See Scenario: what the manifest lists that was there before is there, whole."""
        manifest = (self.folder / "second" / "SHA256SUMS").read_text().splitlines()
        for digest, name in (line.split("  ", 1) for line in manifest):
            content = (self.folder / "second" / name).read_bytes()
            must(hashlib.sha256(content).hexdigest() == digest, f"{name} is not what the manifest says")

    @property
    def left_over(self) -> set[str]:
        """See _CopiedFar."""
        return {file.name for file in (self.folder / "second").glob(".historon.*")}


class Restored(Scenario):
    """A tree that is written back to a folder."""

    name = "restore"
    command: ClassVar[Sequence[str]] = ("restore", "s", "--to", "back", "--permissions")

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        data = folder / "data"
        (data / "etc" / "app").mkdir(parents=True)
        for number in range(6):
            (data / "etc" / "app" / f"{number}.conf").write_text(f"number = {number}\n" * 20)
        (data / "etc" / "link").symlink_to("app/1.conf")
        (data / "etc" / "app" / "2.conf").chmod(0o640)
        self._estate('over = "local"\nsteps = [{ pull = "data" }]\n')

    def prepare(self) -> None:
        """See Scenario."""
        shutil.rmtree(self.folder / "back", ignore_errors=True)

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        found, wanted = _listed(self.folder / "back" / "data"), _listed(self.folder / "data")
        must(found == wanted, f"restored: {sorted(found.keys() ^ wanted.keys())} differ, or their contents")
        left = {path.name for path in (self.folder / "back").iterdir()} - {"data", "data.tree"}
        must(not left, f"left over: {left}")
        return 1


class RestoredOver(Restored):
    """Files, links and modes that are restored to their own paths."""

    name = "restore over originals"
    command = ("restore", "s@1", "--over-originals", "--yes")

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self._wanted = _listed(folder / "data")

    def prepare(self) -> None:
        """See Scenario."""
        etc = self.folder / "data" / "etc"
        (etc / "app" / "0.conf").write_text("somebody was here\n")
        (etc / "app" / "2.conf").chmod(0o666)
        (etc / "app" / "4.conf").unlink(missing_ok=True)
        (etc / "link").unlink(missing_ok=True)
        (etc / "link").symlink_to("/etc/passwd")

    def judge_killed(self) -> None:
        """See Scenario: each file is what it was or what it is to be."""
        text = (self.folder / "data" / "etc" / "app" / "0.conf").read_text()
        must(text in ("somebody was here\n", "number = 0\n" * 20), "0.conf is half of both")

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        found = {name: one for name, one in _listed(self.folder / "data").items() if ".historon-" not in name}
        must(found == self._wanted, f"restored: {sorted(found.keys() ^ self._wanted.keys())} differ, or their contents")
        left = [path.name for path in (self.folder / "data").rglob(".historon-*")]
        must(not left, f"left over: {left}")
        return 1


class Proved(Restored):
    """A version that is tested."""

    name = "prove"
    command = ("prove", "s@1")

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        text = (folder / "historon.toml").read_text()
        proof = '\nproof = [["sh", "-c", "cat $0/data/etc/app/*.conf > seen; test -s seen", "{folder}"]]\n[[sources]]'
        (folder / "historon.toml").write_text(text.replace("\n[[sources]]", proof, 1))

    def judge_killed(self) -> None:
        """See Scenario: there is a verdict of it all, or the one before, or none."""
        with historon.open(self.folder) as estate:
            must({one.verdict for one in estate.source("s").proofs().values()} <= {"proven"}, "half a verdict")

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        with historon.open(self.folder) as estate:
            must([one.verdict for one in estate.source("s").proofs().values()] == ["proven"], "it is not proven")
        return 1


class Pushed(Restored):
    """A tree that is brought back to where it was collected from."""

    name = "push"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        text = (folder / "historon.toml").read_text()
        push = '\npush = [{ put = "data", part = "data" }]\n[[sources]]'
        (folder / "historon.toml").write_text(text.replace("\n[[sources]]", push, 1))
        self._wanted = _listed(folder / "data")

    def prepare(self) -> None:
        """See Scenario."""
        for number in (0, 2, 4):
            (self.folder / "data" / "etc" / "app" / f"{number}.conf").write_text("somebody was here\n")

    def words(self) -> Sequence[str]:
        """See Scenario: the change has another digest when a part of it was made already."""
        with historon.open(self.folder) as estate:
            return ("push", "s@1", "--confirm", estate.version("s@1").plan_push().digest)

    def judge_killed(self) -> None:
        """See Scenario: each file is what it was or what it is to be, and nothing between."""
        for number in (0, 2, 4):
            text = (self.folder / "data" / "etc" / "app" / f"{number}.conf").read_text()
            must(text in ("somebody was here\n", f"number = {number}\n" * 20), f"{number}.conf is half of both")

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        found = _listed(self.folder / "data")
        must(found == self._wanted, f"brought back: {sorted(found.keys() ^ self._wanted.keys())} differ, or contents")
        with historon.open(self.folder) as estate:
            left = [one for one in estate.open_conditions() if one.kind == "push-failed"]
            must(not left, "it is done, and told to be unfinished")
        return 1


class _InDatabase(Scenario):
    """The same with the store in PostgreSQL, on a server of its own."""

    def _make_store(self, copy: Path | None = None) -> None:
        self._running = ExitStack()
        server = self._running.enter_context(running_database())
        (self.folder / "database").write_text(DATABASE_PASSWORD)
        (self.folder / "database").chmod(0o600)
        file = self.folder / "historon.toml"
        store = f'store = "{server.database()}"\nstore_password = "file:database"\n'
        file.write_text(file.read_text().replace("[estate]\n", f"[estate]\n{store}", 1))
        super()._make_store(copy)

    def close(self) -> None:
        """See Scenario."""
        self._running.close()


class RestoredFromDatabase(_InDatabase, RestoredOver):
    """See RestoredOver."""

    name = "restore (database)"


class ProvedInDatabase(_InDatabase, Proved):
    """See Proved."""

    name = "prove (database)"


class PushedFromDatabase(_InDatabase, Pushed):
    """See Pushed."""

    name = "push (database)"


class CopiedFromDatabase(_InDatabase, Copied):
    """See Copied; the store itself is as it is, whatever is killed."""

    name = "copies (database)"

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self._make_store(self._made)

    def prepare(self) -> None:
        """See Scenario."""
        shutil.rmtree(self.folder / "second", ignore_errors=True)
        shutil.copytree(self._before, self.folder / "second")

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        strange = {path.name for path in (self.folder / "second").iterdir()} - _IN_A_STORE - {"estate"}
        must(not strange, f"left over in the copy: {strange}")
        return self.read_all(self.folder / "second", set(self.truth))


class MadeFromDatabase(_InDatabase, Copied):
    """A store in a database that is made of a copy, on the day on which the database is lost."""

    name = "from a copy (database)"
    command: ClassVar[Sequence[str]] = ("new", ".", "--store-only", "--from-copy", "kept")

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        shutil.copytree(self._made, folder / "kept")
        self._running = ExitStack()
        self._server = self._running.enter_context(running_database())
        (folder / "database").write_text(DATABASE_PASSWORD)
        (folder / "database").chmod(0o600)
        self._text = (folder / "historon.toml").read_text()

    def prepare(self) -> None:
        """See Scenario."""
        store = f'store = "{self._server.database()}"\nstore_password = "file:database"\n'
        (self.folder / "historon.toml").write_text(self._text.replace("[estate]\n", f"[estate]\n{store}", 1))
        self._is_made = False

    def words(self) -> Sequence[str]:
        """See Scenario: what was made is not made again."""
        return ("verify",) if self._is_made else self.command

    def judge_killed(self) -> None:
        """See Scenario: the store is there as a whole, or not at all."""
        try:
            with historon.open(self.folder) as estate:
                found = sum(len(estate.store.versions(f"s{n}")) for n in range(self.sources))
        except StoreError:
            return
        must(found == len(self.truth), f"{found} versions where {len(self.truth)} are to be")
        self._is_made = True

    def judge(self, *, whole: bool) -> int:
        """See Scenario."""
        with historon.open(self.folder) as estate:
            for (source, number), content in self.truth.items():
                (part,) = estate.store.parts(source, number)
                must(estate.store.read(part) == content, f"{source}@{number} is not what it was")
        return len(self.truth)


def _listed(folder: Path) -> dict[str, tuple[int, object]]:
    return {
        str(path.relative_to(folder)): (
            path.lstat().st_mode,
            path.readlink() if path.is_symlink() else path.read_bytes() if path.is_file() else None,
        )
        for path in folder.rglob("*")
    }


SCENARIOS: tuple[type[Scenario], ...] = (
    File,
    LargeFile,
    Tree,
    Program,
    Shell,
    Telnet,
    Netconf,
    Web,
    Archive,
    Paused,
    Dropped,
    DroppedMoved,
    DroppedKept,
    Mailed,
    MailedMoved,
    ImapRemoved,
    ImapMoved,
    Served,
    Pruned,
    Copied,
    MadeFromCopy,
    Rescued,
    CopiedToBucket,
    CopiedToServer,
    CopiedAsFiles,
    Restored,
    RestoredOver,
    Proved,
    Pushed,
    CopiedFromDatabase,
    MadeFromDatabase,
    RestoredFromDatabase,
    ProvedInDatabase,
    PushedFromDatabase,
)


# ---- the campaign ----------------------------------------------------------------------------------------------------


@dataclass
class Campaign:
    """What came of one scenario."""

    name: str
    points: int = 0
    kills: int = 0
    versions: int = 0
    troubles: list[str] = field(default_factory=list)


def campaign(
    kind: type[Scenario],
    folder: Path,
    prefork: Prefork,
    *,
    stride: int = 1,
    first: int = 0,
    by_chance: int = 0,
    seed: int = 1,
) -> Campaign:
    """Kill at every point, or every so many, and then so many times by chance. The first trouble ends it."""
    folder.mkdir()
    scenario = kind(folder)
    trial = _Trial(scenario, prefork, Campaign(kind.name))
    try:
        trial.begin()
        for point in itertools.count(first, stride):
            if not trial.attempt(partial(arm, point, trial.record), f"point {point}"):
                break
            trial.made.points += 1
        began = time.monotonic()
        trial.attempt(partial(arm, -1, trial.record), "without a kill")
        took = time.monotonic() - began
        rng = random.Random(seed)
        for _ in range(by_chance):
            seconds = rng.uniform(0.002, took)
            trial.attempt(partial(arm_clock, seconds), f"after {seconds:.3f} s")
        trial.end()
    except TroubleError as exc:
        trial.made.troubles.append(f"{kind.name}: {exc}")
    finally:
        scenario.close()
    return trial.made


@dataclass
class _Trial:
    scenario: Scenario
    prefork: Prefork
    made: Campaign

    @property
    def record(self) -> Path:
        """Where a victim says at which step it ended."""
        return self.scenario.folder / "killed-at"

    def begin(self) -> None:
        """What has to be there before the first attempt."""
        self.record.write_text("")
        if isinstance(self.scenario, Restored):
            must(self._run(["collect"])[0] == 0, "could not collect")

    def attempt(self, before: Callable[[], object], where: str) -> bool:
        """Do it, killed or not, and once more if it was killed; judge. Whether it was killed. TroubleError."""
        scenario = self.scenario
        scenario.prepare()
        code, said = self._run(scenario.words(), before)
        killed = code < 0
        self.made.kills += killed
        try:
            must(killed or code in scenario.well, f"it ended with {code}: {said[-300:]}")
            if killed:
                scenario.judge_killed()
                code, said = self._run(scenario.words())
                must(code in scenario.well, f"the next one ended with {code}: {said[-300:]}")
            self.made.versions += scenario.judge(whole=False)
        except Exception as exc:
            step = self.record.read_text() if "point" in where else ""
            raise TroubleError(f"{where} {step}: {type(exc).__name__}: {exc}") from exc
        return killed

    def end(self) -> None:
        """All that is in the store is as it should be, by the program's own word too."""
        self.made.versions += self.scenario.judge(whole=True)
        code, said = self._run(["verify"])
        must(code == 0, f"verify ended with {code}: {said[-300:]}")

    def _run(self, command: Sequence[str], before: Callable[[], object] | None = None) -> tuple[int, str]:
        environment = {"PATH": os.environ["PATH"], "HOME": str(self.scenario.folder)}
        code, out, err = self.prefork.run(command, self.scenario.folder, environment, before)
        return code, (out + err).decode("utf-8", "replace")


def _all(chance: int, seed: int, chosen: Sequence[str]) -> Iterator[Campaign]:
    prefork = Prefork()
    try:
        with tempfile.TemporaryDirectory() as folder:
            for number, kind in enumerate(SCENARIOS):
                if kind.needs and not PEERS[kind.needs]:
                    print(f"{kind.name:<22} left out: this machine does not have {kind.needs}")
                elif not chosen or kind.name in chosen:
                    yield campaign(kind, Path(folder) / str(number), prefork, by_chance=chance, seed=seed)
    finally:
        prefork.close()


@click.command()
@click.option("--by-chance", default=20, show_default=True, help="Kills by chance in each scenario.")
@click.option("--seed", default=1, show_default=True)
@click.argument("scenario", nargs=-1)
def main(by_chance: int, seed: int, scenario: tuple[str, ...]) -> None:
    """Kill, do it again, judge."""
    troubles = []
    total = Campaign("all")
    print(f"{'scenario':<22} {'points':>6} {'kills':>6} {'versions read':>13}")
    for one in _all(by_chance, seed, scenario):
        print(f"{one.name:<22} {one.points:>6} {one.kills:>6} {one.versions:>13}", flush=True)
        troubles += one.troubles
        total.points, total.kills, total.versions = (
            total.points + one.points,
            total.kills + one.kills,
            total.versions + one.versions,
        )
    print(f"{total.name:<22} {total.points:>6} {total.kills:>6} {total.versions:>13}")
    print("\n".join(troubles) or "nothing lost, nothing twice, nothing half, nothing left over")
    sys.exit(bool(troubles))


if __name__ == "__main__":
    main()
