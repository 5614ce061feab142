"""The rules of the house, held by tests: who may import whom, what is public, what is documented."""

import ast
import graphlib
import importlib
import inspect
import re
import subprocess
import sys
import tomllib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import msgspec
import pytest

from historon.base.errors import ExitCode
from historon.estate import CHANNELS, COPIES, TRANSPORTS
from historon.estate.procedure_reading import typed_procedure
from historon.estate.steps import VERBS
from historon.estate.table import Table

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "historon"
MODULES = sorted(SOURCE.rglob("*.py"))

# Who may import whom: only what stands further down. Those in one row know nothing of each other, save where noted.
LAYERS = [
    {"cli"},
    {"api"},
    {"timetable", "report", "doctor", "standins"},
    {"notices"},  # tells of rounds, so it knows collect's reports
    {"collect", "restore", "copies"},
    {"retention"},
    {"insight"},
    {"inspection"},
    {"compare"},
    {"versions"},
    {"store"},
    {"estate"},
    {"base", "__init__"},
]
# Libraries that one place alone knows.
_ONLY_IN = {
    "click": "historon.cli",
    "rich": "historon.cli",
    "zstandard": "historon.store.encoding.codec",
    "psycopg": "historon.store.postgresql",
}
# Within the store, too, each only knows what stands further down; a row's packages know nothing of each other.
_STORE_LAYERS = [{"opening"}, {"postgresql"}, {"sqlite"}, {"ledger"}, {"encoding"}]
_STORE_RANK = {package: rank for rank, row in enumerate(_STORE_LAYERS) for package in row}
_RANK = {package: rank for rank, row in enumerate(LAYERS) for package in row}


@dataclass(frozen=True)
class _Module:
    """A module by its name, with what it holds: rules are about text, so that attacks on them can be texts too."""

    name: str  # with dots; of a package that of its __init__
    source: str
    is_package: bool = False

    @property
    def package(self) -> str:
        """The part of the house that it is in; empty for the house itself."""
        return self.name.removeprefix("historon").strip(".").split(".")[0]

    @cached_property
    def tree(self) -> ast.Module:
        return ast.parse(self.source)

    @cached_property
    def imports(self) -> dict[str, str]:
        """All that is imported, whole and resolved, by the name that it has here; also what is imported in functions."""
        found: dict[str, str] = {}
        for node in ast.walk(self.tree):
            if isinstance(node, ast.Import):
                found |= {alias.asname or alias.name: alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom):
                origin = self._resolved(node)
                found |= {alias.asname or alias.name: f"{origin}.{alias.name}" for alias in node.names}
            elif isinstance(node, ast.Call) and ast.unparse(node.func).endswith(("import_module", "__import__")):
                found |= {str(one.value): str(one.value) for one in node.args if isinstance(one, ast.Constant)}
        return found

    def _resolved(self, node: ast.ImportFrom) -> str:
        if not node.level:
            return node.module or ""
        parts = self.name.split(".")
        above = parts[: len(parts) - node.level + self.is_package]
        return ".".join([*above, *([node.module] if node.module else [])])

    def whole(self, node: ast.expr) -> str:
        """What an expression such as `sys.exit` stands for, whatever it was imported as."""
        written = ast.unparse(node)
        first, dot, rest = written.partition(".")
        return self.imports.get(first, first) + dot + rest


def _module(file: Path) -> _Module:
    name = ".".join(file.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")
    return _Module(name, file.read_text(), file.name == "__init__.py")


_ALL = {file: _module(file) for file in MODULES}
_NAMES = {module.name: module for module in _ALL.values()}


def _wrong_directions(module: _Module) -> list[str]:
    """Imports of what does not stand further down, and of the interface outside of it."""
    if module.package == "__main__" or module.name == "historon":  # which open the front door
        return []
    found = []
    for whole in module.imports.values():
        parts = whole.split(".")
        place = next((one for library, one in _ONLY_IN.items() if parts[0] == library), "historon")
        if not module.name.startswith(place):
            found.append(f"only {place} may import {whole}")
        if parts[0] != "historon" or len(parts) == 1:
            continue
        other = parts[1] if parts[1] in _RANK else "__init__"
        if other != module.package and _RANK[other] <= _RANK[module.package or "__init__"]:
            found.append(f"{whole} does not stand further down")
        if whole.startswith("historon.store.") and module.name.startswith("historon.store."):
            here, there = (name.split(".")[2] for name in (module.name, whole))
            higher = _STORE_RANK.get(there, len(_STORE_LAYERS)) < _STORE_RANK.get(here, len(_STORE_LAYERS))
            if higher:
                found.append(f"{whole} does not stand further down in the store")
    return found


def _private_uses(module: _Module) -> list[str]:
    """Imports of what another module keeps to itself: by its name, or as it does not name it among what is public."""
    found = []
    for whole in module.imports.values():
        origin, _, name = whole.rpartition(".")
        if not whole.startswith("historon.") or whole in _NAMES:
            continue
        private = any(part.startswith("_") and not part.startswith("__") for part in whole.split("."))
        if private or (origin in _NAMES and not name.startswith("__") and name not in _public(_NAMES[origin])):
            found.append(f"{whole} is not public")
    return found


def _public(module: _Module) -> set[str]:
    for node in module.tree.body:
        if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == "__all__":
            return set(ast.literal_eval(node.value))
    return set()


_OUTPUTS = {
    "print",
    "input",
    "exit",
    "quit",
    "sys.exit",
    "os._exit",
    "time.sleep",
    "builtins.print",
    "builtins.input",
    "sys.stdout.write",
    "sys.stderr.write",
    "sys.stdout.buffer.write",
    "sys.stdout.writelines",
    "sys.stdout.buffer.writelines",
    "os.abort",
}


def _outputs(module: _Module) -> list[str]:
    """Where the core prints, asks, ends the program, or sleeps."""
    found = []
    for node in ast.walk(module.tree):
        if isinstance(node, ast.Attribute | ast.Name) and module.whole(node) in _OUTPUTS:
            found.append(module.whole(node))
        if isinstance(node, ast.Raise) and node.exc is not None:
            raised = node.exc.func if isinstance(node.exc, ast.Call) else node.exc
            if module.whole(raised) in ("SystemExit", "builtins.SystemExit", "KeyboardInterrupt"):
                found.append("raise SystemExit")
    return found


def _environment(module: _Module) -> list[str]:
    """Where the environment is read, whatever it is called there."""
    wholes = {module.whole(node) for node in ast.walk(module.tree) if isinstance(node, ast.Attribute | ast.Name)}
    return sorted(one for one in wholes if one.startswith(("os.environ", "os.getenv", "posix.environ")))


# Kinds, commands and documents are looked up by name, so that nobody keeps a list of them; nothing else is.
_BY_NAME = {"historon.estate.kinds", "historon.compare.documents", "historon.cli.main", "historon.base.lazily"}


def _loads_by_name(module: _Module) -> list[str]:
    """Imports of modules whose name is calculated, which no rule can look at."""
    found = []
    for node in ast.walk(module.tree):
        if isinstance(node, ast.Call) and module.whole(node.func).endswith(("import_module", "__import__")):
            reckoned = not all(isinstance(one, ast.Constant) for one in node.args)
            if reckoned and module.name not in _BY_NAME:
                found.append(ast.unparse(node))
    return found


@pytest.mark.parametrize("rule", [_wrong_directions, _loads_by_name, _private_uses])
def test_each_module_keeps_the_rule(rule: Callable[[_Module], list[str]]) -> None:
    assert {module.name: found for module in _ALL.values() if (found := rule(module))} == {}


def test_the_core_neither_prints_nor_exits_nor_sleeps() -> None:
    core = [module for module in _ALL.values() if module.package not in ("cli", "__main__")]
    found = {module.name: outputs for module in core if (outputs := _outputs(module))}
    assert found == {"historon.base.workers": ["os._exit"] * 3}, "its processes are its own"


@pytest.mark.parametrize(
    ("rule", "source"),
    [
        (_wrong_directions, "import click"),
        (_wrong_directions, "from rich.text import Text as T"),
        (_wrong_directions, "from historon import cli"),
        (_wrong_directions, "from historon.cli.app import App"),
        (_wrong_directions, "from ..cli.app import App"),
        (_wrong_directions, "from .. import notices"),
        (_wrong_directions, "from importlib import import_module\nimport_module('historon.notices.letters')"),
        (_wrong_directions, "def f():\n    import historon.collect.round as r"),
        (_loads_by_name, "import importlib as i\ni.import_module('historon.' + name)"),
        (_loads_by_name, "from importlib import import_module as load\nload(f'historon.{name}')"),
        (_private_uses, "from historon.compare.changes import _edited"),
        (_private_uses, "from historon.compare import _hidden"),
        (_private_uses, "from .interface import _NOTHING"),
        (_private_uses, "from historon.estate.model import Literal"),
        (_wrong_directions, "import zstandard"),
        (_wrong_directions, "from psycopg import connect"),
        (_wrong_directions, "from historon.store.sqlite.folder import FolderStore"),
        (_outputs, "print(1)"),
        (_outputs, "from builtins import print as told\ntold(1)"),
        (_outputs, "told = print\ntold(1)"),
        (_outputs, "list(map(print, [1]))"),
        (_environment, "from os import environ\nenviron['A']"),
        (_environment, "import os as o\no.getenv('A')"),
        (_outputs, "import sys as s\ns.stdout.write('')"),
        (_outputs, "import sys\nsys.stderr.write('')"),
        (_outputs, "from sys import exit as leave\nleave(1)"),
        (_outputs, "raise SystemExit(1)"),
        (_outputs, "raise SystemExit"),
        (_outputs, "from time import sleep as rest\nrest(1)"),
    ],
)
def test_an_attack_on_a_rule_is_seen(rule: Callable[[_Module], list[str]], source: str) -> None:
    assert rule(_Module("historon.store.attack", source)) != []


@pytest.mark.parametrize("rule", [_wrong_directions, _loads_by_name, _private_uses, _outputs])
def test_a_module_that_keeps_the_rules_is_not_blamed(rule: Callable[[_Module], list[str]]) -> None:
    source = "import sys\nfrom historon.estate import Estate\nfrom .interface import Store\nsys.stdout.isatty()\n"
    assert rule(_Module("historon.store.good", source)) == []


def test_an_estate_is_read_without_what_takes_long_to_load() -> None:
    look = (
        "import sys; from historon.estate import CHANNELS, COPIES, TRANSPORTS, shipped_names, read_procedure\n"
        "[read_procedure(name) for name in shipped_names()]\n"
        "[CHANNELS[name] for name in 'command file mail syslog webhook'.split()]\n"
        "[COPIES[name] for name in 'bucket folder git store'.split()]\n"
        "[TRANSPORTS[name] for name in 'https telnet netconf mailbox drop-folder local'.split()]\n"
        "print(sorted(sys.modules.keys() & {'asyncssh', 'httpx', 'telnetlib3', 'obstore', 'jinja2', 'psycopg', 'rich'}))"
    )
    done = subprocess.run([sys.executable, "-c", look], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"


def test_only_secrets_and_the_command_line_read_the_environment() -> None:
    readers = {module.name for module in _ALL.values() if _environment(module)}
    assert readers == {"historon.cli.app", "historon.cli.main", "historon.estate.secrets"}


def _circles(modules: Iterable[_Module]) -> list[list[str]]:
    """Modules that import each other, be it in a function or for types alone; packages' faces lead to the home."""
    known = {module.name: module for module in modules}
    homes = {
        f"{face.name}.{name}": f"{face.name}.{module}"
        for face in known.values()
        for node in ast.walk(face.tree)
        if face.is_package and isinstance(node, ast.Call) and ast.unparse(node.func) == "lazily"
        for module, names in ast.literal_eval(node.args[1]).items()
        for name in names
    }

    def used(module: _Module) -> set[str]:
        found = {homes.get(whole, whole) for whole in module.imports.values()}
        found = {one if one in known else one.rpartition(".")[0] for one in found}
        return {one for one in found if one in known and one != module.name and not known[one].is_package}

    sorter = graphlib.TopologicalSorter({m.name: used(m) for m in known.values() if not m.is_package})
    try:
        sorter.prepare()
    except graphlib.CycleError as exc:
        return [exc.args[1]]
    return []


def test_no_modules_import_each_other() -> None:
    assert _circles(_ALL.values()) == []


def test_a_circle_is_seen_however_it_is_closed() -> None:
    closing = ["import historon.a", "def f():\n    from historon.a import x", "from historon import a"]
    face = _Module("historon", "lazily(__name__, {'a': ['x']})", is_package=True)
    for back in (*closing, "from historon import x"):
        assert _circles([face, _Module("historon.a", "from historon.b import y"), _Module("historon.b", back)]), back


def test_what_is_public_is_named_and_there() -> None:
    for module in _ALL.values():
        if module.name.endswith("__main__"):
            continue
        loaded = importlib.import_module(module.name)
        public = getattr(loaded, "__all__", None)
        assert public is not None or module.is_package, f"{module.name} names nothing public"
        assert all(hasattr(loaded, one) for one in public or ()), module.name
        assert len(set(public or ())) == len(public or ()), module.name


def test_each_public_method_has_a_docstring_of_its_own_or_of_what_it_carries_out() -> None:
    bare = []
    for module in (importlib.import_module(one.name) for one in _ALL.values() if not one.name.endswith("__main__")):
        for made in vars(module).values():
            if inspect.isclass(made) and made.__module__ == module.__name__ and not made.__name__.startswith("_"):
                bare += [
                    f"{made.__qualname__}.{name}" for name, member in vars(made).items() if _is_bare(made, name, member)
                ]
    assert not bare, " ".join(bare)


def _is_bare(made: type, name: str, member: object) -> bool:
    if name.startswith("_") or not _is_method(member):
        return False
    promised = (vars(each).get(name) for each in made.__mro__)
    return not any(inspect.getdoc(each) for each in promised if _is_method(each))


def _is_method(member: object) -> bool:
    return inspect.isfunction(member) or isinstance(member, property | classmethod | staticmethod | cached_property)


def test_no_name_that_a_package_hands_on_is_that_of_a_module_in_it() -> None:
    """The import of the module would put the module in its place (base.lazily)."""
    for module in _ALL.values():
        if module.is_package and "lazily(" in module.source:
            public = importlib.import_module(module.name).__all__
            modules = {one.name.removeprefix(f"{module.name}.") for one in _ALL.values()}
            assert not {*public} & modules


def test_every_setting_is_documented() -> None:
    text = (ROOT / "docs" / "estate-file.md").read_text()
    assert all(len(kinds) for kinds in (TRANSPORTS, CHANNELS, COPIES))  # which loads them all
    for table in _tables(Table):
        if table.__module__.startswith("historon."):
            for field in msgspec.structs.fields(table):
                name = field.encode_name
                read_apart = name in ("says", "how")  # written as the step's verb, and key by key
                assert read_apart or f"`{name}`" in text or f"[{name}" in text, (table, name)
    assert all(f"`{verb}`" in text for verb in VERBS)


def test_every_kind_is_documented() -> None:
    text = (ROOT / "docs" / "estate-file.md").read_text()
    for name in (*TRANSPORTS, *CHANNELS, *COPIES):
        assert f'"{name}"' in text or f"`{name}`" in text, name


def test_every_exit_code_is_documented() -> None:
    text = (ROOT / "docs" / "exit-codes.md").read_text()
    assert {int(code) for code in re.findall(r"^\| (\d+) \|", text, re.MULTILINE)} == set(ExitCode)


def test_the_steps_in_the_documents_are_right() -> None:
    steps = [
        found[1]
        for page in (ROOT / "docs").glob("*.md")
        for found in re.finditer(
            r"^ *(?:steps = \[)?(\{ (?:send|keep|pull|await|each|pick|clock|tidy) = .*\})\]?,?(?: +#.*)?$",
            page.read_text(),
            re.MULTILINE,
        )
    ]
    assert len(steps) >= 30
    for step in steps:
        written = tomllib.loads(f"step = {step}")["step"]
        assert not all(_wrong_over(written, over) for over in TRANSPORTS), step


def _tables(below: type[Table]) -> Iterator[type[Table]]:
    for one in below.__subclasses__():
        yield one
        yield from _tables(one)


def _wrong_over(step: dict[str, object], over: str) -> bool:
    _, problems = typed_procedure({"over": over, "steps": [step]})
    return any(problem.path[:2] == ("steps", 0) for problem in problems)


def test_links_and_pictures_in_the_documents_are_there() -> None:
    for page in (*ROOT.glob("*.md"), *ROOT.glob("docs/*.md")):
        for target in re.findall(r"\]\(([^)#\s]+)", page.read_text()):
            assert "://" in target or (page.parent / target).exists(), f"{page.name}: {target}"


def test_every_row_of_a_table_in_the_documents_stands_in_it() -> None:
    for page in (*ROOT.glob("*.md"), *ROOT.glob("docs/*.md")):
        lines = ["", *page.read_text().split("\n"), ""]
        for at, line in enumerate(lines):
            if line.startswith("|") and not lines[at - 1].startswith("|"):
                assert re.fullmatch(r"\|[-| :]+\|", lines[at + 1]), f"{page.name}:{at}: a row outside of a table"
            if line.startswith("|"):
                assert line.endswith("|"), f"{page.name}:{at}"
