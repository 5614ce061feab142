"""A new transport, channel, copy, verb of steps, command or kind of document takes one module, a kind of event one row."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "historon"

TRANSPORT = '''
from contextlib import asynccontextmanager
from typing import ClassVar

from historon.collect.transports.interface import Answer, Session
from historon.estate import Clauses, Procedure


class Loudly(Clauses, frozen=True, kw_only=True):
    """How loudly something is said."""

    loudly: bool = False


class Echo(Procedure, frozen=True, kw_only=True):
    """`over = "echo"`: what is said comes back."""

    over: ClassVar[str] = "echo"
    on_network: ClassVar[bool] = False
    asking: ClassVar[type[Clauses] | None] = Loudly
    pulling: ClassVar[type[Clauses] | None] = None
    concerns: ClassVar[dict[str, str]] = {"an echo tells nothing new": "ask somebody else"}

    greeting: str = "hello"


@asynccontextmanager
async def open_session(target, known=None):
    yield EchoSession(target)


class EchoSession(Session):
    async def say(self, what, step):
        said = f"{self._procedure.greeting} {what}\\n"
        return Answer((said.upper() if step.how.loudly else said).encode())
'''
CHANNEL = '''
from typing import ClassVar

from historon.estate import Channel
from historon.notices.channels.interface import Sent


class WallChannel(Channel, frozen=True, kw_only=True):
    """A wall that is written on."""

    kind: ClassVar[str] = "wall"

    wall: str

    @property
    def goes_to(self) -> str:
        return f"the wall {self.wall}"


def send(channel, letter, estate, at, remaining):
    with estate.path(channel.wall).open("a") as wall:
        wall.write(letter.subject + "\\n")
    return Sent("written")
'''
COPY = '''
from typing import ClassVar

from historon.estate import Copy
from historon.store import Copied


class RollCopy(Copy, frozen=True, kw_only=True):
    """A roll of the versions that there are."""

    kind: ClassVar[str] = "roll"


def is_there(copy, estate):
    return estate.path(copy.path).is_file()


def is_newer(copy, estate, store, *, ask):
    return None


def update(copy, estate, store, now, damaged):
    names = [f"{source}@{one.number}" for source in estate.sources for one in store.versions(source)]
    estate.path(copy.path).write_text("\\n".join(names))
    return Copied(len(estate.sources), len(names), 0, store.change_number())


def verify(copy, estate, store, sample, settings):
    raise NotImplementedError
'''
VERB = '''
from typing import ClassVar

from historon.collect.failures import CollectError, FailureKind
from historon.estate.steps import Step


class Whisper(Step, frozen=True, kw_only=True):
    """Says something to nobody; `softly` fails."""

    verb: ClassVar[str] = "whisper"

    says: str
    softly: bool = False


async def take(taking, place, step):
    if step.softly:
        raise CollectError(FailureKind.STEP, f"nobody heard {step.says}")
'''
COMMAND = '''
"""`historon ebb`."""

import click

from historon.cli.app import pass_app


@click.command("ebb")
@pass_app
def command(app):
    """Say how low the water is."""
    click.echo("very low")
'''
DOCUMENT = '''
from historon.compare.documents.interface import Document, Format, Notation, Plain


class Pairs(Format):
    """NAME -> VALUE, a line each."""

    def claims(self, name, start):
        return name.endswith(".pairs")

    def parse(self, content, xpaths, pointers):
        pairs = dict(line.split(" -> ") for line in content.decode().splitlines())
        return Document("pairs", Plain(fields={name: Plain(value) for name, value in pairs.items()}), Notation())
'''
ESTATE = """
[estate]
name = "Quay"

[procedures.asked]
over = "echo"
greeting = "ahoy"
steps = [{ whisper = "a secret" }, { keep = "who is there", as = "answer.txt", loudly = true }]

[[sources]]
name = "cave"
procedure = "asked"

[channels.yard]
kind = "wall"
tell = "always"
wall = "wall.txt"

[copies.list]
kind = "roll"
path = "roll.txt"
"""


@pytest.fixture(scope="module")
def library(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The program, and beside its modules those of new kinds."""
    lib = tmp_path_factory.mktemp("lib")
    shutil.copytree(SOURCE, lib / "historon", ignore=shutil.ignore_patterns("__pycache__"))
    for place, text in {
        "collect/transports/echo.py": TRANSPORT,
        "notices/channels/wall.py": CHANNEL,
        "copies/roll.py": COPY,
        "collect/verbs/whisper.py": VERB,
        "cli/commands/ebb.py": COMMAND,
        "compare/documents/pairs.py": DOCUMENT,
    }.items():
        (lib / "historon" / place).write_text(text)
    events = lib / "historon" / "estate" / "event_kinds.py"
    row = '    _source("tide-turned", _WARNING, "TIDE TURNED", "the tide has turned"),\n'
    events.write_text(events.read_text().replace("_TABLE = (\n", f"_TABLE = (\n{row}"))
    return lib


def _run(library: Path, folder: Path, *words: str) -> str:
    environment = {**os.environ, "PYTHONPATH": str(library), "HISTORON_ESTATE": str(folder / "historon.toml")}
    command = [sys.executable, "-m", "historon", *words]
    done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


def test_a_new_kind_is_one_module(library: Path, tmp_path: Path) -> None:
    (tmp_path / "historon.toml").write_text(ESTATE)
    _run(library, tmp_path, "new", ".", "--store-only")
    _run(library, tmp_path, "collect")
    assert _run(library, tmp_path, "show", "cave") == "AHOY WHO IS THERE\n"
    assert "Quay" in (tmp_path / "wall.txt").read_text()
    assert "the wall wall.txt" in _run(library, tmp_path, "notices")
    assert "an echo tells nothing new" in _run(library, tmp_path, "doctor")
    _run(library, tmp_path, "copies", "--update")
    assert (tmp_path / "roll.txt").read_text() == "cave@1"
    (copy,) = json.loads(_run(library, tmp_path, "copies", "--json"))["rows"]
    assert (copy["kind"], copy["state"]) == ("roll", "up to date")


def test_a_new_verb_command_and_kind_of_document_are_a_module_each(library: Path, tmp_path: Path) -> None:
    (tmp_path / "historon.toml").write_text(
        ESTATE.replace('whisper = "a secret"', 'whisper = "a secret", softly = true')
    )
    _run(library, tmp_path, "new", ".", "--store-only")
    assert "nobody heard a secret" in _run(library, tmp_path, "collect")
    assert _run(library, tmp_path, "ebb") == "very low\n"
    assert "Say how low the water is." in _run(library, tmp_path, "--help")
    changes = (
        "from historon.compare import compare_exports\nfrom historon.versions import Masks\n"
        "old, new = {'a.pairs': b'x -> 1\\ny -> 2'}, {'a.pairs': b'y -> 3\\nx -> 1'}\n"
        "print(*((one.path, one.old, one.new) for part in compare_exports(old, new, Masks(key=b'')) for one in part.changes))"
    )
    environment = {**os.environ, "PYTHONPATH": str(library)}
    done = subprocess.run([sys.executable, "-c", changes], env=environment, capture_output=True, text=True, check=False)
    assert done.stdout == "('/y', '2', '3')\n", done.stderr


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('greeting = "ahoy"', 'prompt = "x"', "over echo has no prompt (it belongs to ssh-shell, telnet)"),
        ("loudly = true", 'filter = "x"', "over echo a step has no filter (it belongs to netconf)"),
        ("loudly = true", "loudli = true", 'this key is not known (did you mean "loudly"?)'),
        ('keep = "who is there", as = "answer.txt", loudly = true', 'pull = "x"', "echo cannot pull a file"),
        ('kind = "wall"', 'kind = "wal"', '"wal" is not a kind of channel (did you mean "wall"?)'),
        ('wall = "wall.txt"', "", '"wall" is missing'),
        ('kind = "roll"', 'kind = "rolls"', '"rolls" is not a kind of copy (did you mean "roll"?)'),
        (
            'whisper = "a secret"',
            'whisper = "a secret", softli = true',
            'this key is not known (did you mean "softly"?)',
        ),
        ('kind = "wall"', "", '"kind" is missing (one of command, file, mail, syslog, wall, webhook)'),
    ],
)
def test_mistakes_in_new_kinds_are_told_as_in_others(
    library: Path, tmp_path: Path, old: str, new: str, said: str
) -> None:
    text = ESTATE.replace(old, new)
    assert text != ESTATE
    (tmp_path / "historon.toml").write_text(text)
    assert said in " ".join(_run(library, tmp_path, "sources").split())


def test_a_new_kind_of_event_is_one_row(library: Path, tmp_path: Path) -> None:
    (tmp_path / "historon.toml").write_text(ESTATE.replace('tell = "always"', 'tell = "tide-turned"'))
    _run(library, tmp_path, "new", ".", "--store-only")
    assert "tide-turned" in _run(library, tmp_path, "notices")
    letter = (
        "import sys; from datetime import UTC, datetime; from pathlib import Path; from historon.estate import read_estate\n"
        "from historon.notices import Event\n"
        "from historon.notices.letters import letter_of\n"
        "estate = read_estate(Path('historon.toml'))\n"
        "event = Event('tide-turned', datetime.now(UTC), 'it is ebb', source='cave')\n"
        "letter = letter_of([event], estate.channels['yard'], estate, datetime.now(UTC))\n"
        "print(letter.subject, letter.text)\n"
    )
    environment = {**os.environ, "PYTHONPATH": str(library)}
    done = subprocess.run(
        [sys.executable, "-c", letter], cwd=tmp_path, env=environment, capture_output=True, text=True, check=True
    )
    assert "TIDE TURNED" in done.stdout
    assert "NEEDS ACTION" in done.stdout
