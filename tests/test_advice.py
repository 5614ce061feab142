"""What messages advise: every command that is named exists, and can be done on the day on which it is advised."""

import ast
import re
import shlex
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import click

from historon.cli.main import COMMANDS, cli
from tests.conftest import FILES_ESTATE, EstateFolder

_SOURCE = Path(__file__).parent.parent / "src" / "historon"
_NAMED = re.compile(r"historon (?:[a-z][a-z-]+)(?: (?:[^;:()\n`']|'[^']*')*)?")

# What must be there for each command that a message advises.
_PRESUMES = {
    "": "new demo procedures standins",
    "estate": "doctor sources agenda service-files",
    "estate store": "versions show diff changes find trace requirements noise restore prove status rounds notices verify "
    "copies serve store prune",  # pruning spends the reserve where there is no room
    "estate store source": "rehearse collect push",
    "estate store room": "hold vouch",
}
_NEEDS = {name: set(needs.split()) for needs, names in _PRESUMES.items() for name in names.split()}
_NO_COMMANDS = ("is", "has", "keeps", "ends", "does", "version")  # of sentences and modules
# What is missing where messages of these modules are given.
_MISSING = {
    "estate/reading.py": {"estate", "store"},
    "estate/checking.py": {"estate", "store"},
    "estate/procedure_reading.py": {"estate", "store"},
    "estate/table_reading.py": {"estate", "store"},
    "store/sqlite/transactions.py": {"room"},
    "store/sqlite/schema.py": {"store"},
    "store/postgresql/server.py": {"store"},
    "collect/preconditions.py": {"room"},
    "collect/failures.py": {"source"},
}


@cache
def _advice() -> list[tuple[str, str]]:
    """Each command that a text of the program names, with where that stands; help and names of modules aside."""
    found = []
    for file in sorted(_SOURCE.rglob("*.py")):
        if "standins" in file.parts:
            continue
        where = str(file.relative_to(_SOURCE))
        for text in _texts(ast.parse(file.read_text())):
            found += [(where, match[0].strip()) for match in _NAMED.finditer(text)]
    return found


def _texts(tree: ast.AST) -> Iterator[str]:
    """The texts in a module, but for docstrings; what is filled in stands as X."""
    if isinstance(tree, ast.JoinedStr):
        yield "".join(str(one.value) if isinstance(one, ast.Constant) else "X" for one in tree.values)
        return
    if isinstance(tree, ast.Constant) and isinstance(tree.value, str):
        yield tree.value
    body = getattr(tree, "body", None)
    for child in ast.iter_child_nodes(tree):
        docstring = isinstance(child, ast.Expr) and isinstance(body, list) and child is body[0]
        if not docstring:
            yield from _texts(child)


def _command(words: list[str]) -> click.Command | None:
    """The command that words begin with."""
    context = click.Context(cli)
    command = cli.get_command(context, words[1].rstrip(".,"))
    while isinstance(command, click.Group) and len(words) > 2 and words[2] in command.list_commands(context):
        words = words[1:]
        command = command.get_command(context, words[1])
    return command


def _wrong(where: str, text: str) -> str:
    """Why this cannot be advised; empty for nothing."""
    words = shlex.split(text.partition(" > ")[0].partition(" = ")[0].replace("'", ""))
    name = words[1].rstrip(".,")
    if name not in _NEEDS:
        return "" if name in _NO_COMMANDS else f"there is no command {name}"
    command = _command(words)
    if command is None:
        return "there is no such command"
    known = [command, *command.commands.values()] if isinstance(command, click.Group) else [command]
    options = {one for some in known for param in some.params for one in (*param.opts, *param.secondary_opts)}
    used = {word.rstrip(".,").partition("=")[0] for word in words if re.match(r"--[a-z]", word)}
    if not used <= options | {"--help"}:
        return f"there is no {used - options}"
    missing = _MISSING.get(where, set()) & _NEEDS[name]
    return f"it is advised where there is no {missing}" if missing else ""


def test_what_is_advised_can_be_done_on_that_day() -> None:
    assert len(_advice()) > 100
    wrong = {(where, text): why for where, text in _advice() if (why := _wrong(where, text))}
    assert wrong == {}


def test_every_command_says_what_it_presumes() -> None:
    assert set(_NEEDS) == {one for section in COMMANDS.values() for one in section}
    assert all((_SOURCE / file).exists() for file in _MISSING)


def test_the_doctor_knows_who_uses_a_timetable(files_estate: EstateFolder) -> None:
    tables = "".join(f'[timetables.{name}]\nat = "06:00"\n' for name in ("mornings", "evenings", "nights", "never"))
    files_estate.write(
        FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nprune = "evenings"\nprove = "nights"')
        + f'{tables}[channels.c]\nkind = "file"\npath = "x"\ndigest = "mornings"\n'
    )
    said = files_estate.run("doctor").out
    assert "timetables never nothing uses it" in " ".join(said.split())
    assert not re.search(r"timetables (mornings|evenings|nights)", said)
