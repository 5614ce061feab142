"""The rules of the house, held by tests: who may import whom, what is public, what is documented."""

import ast
import importlib
import re
import tomllib
from pathlib import Path

import msgspec
import pytest

from historon.errors import ExitCode
from historon.estate import model, procedures
from historon.estate.checking import problems_of

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "historon"
MODULES = sorted(SOURCE.rglob("*.py"))

# Who may import whom: only what stands further down. Those in one row know nothing of each other, save where noted.
LAYERS = [
    {"cli"},
    {"timetable", "report", "standins"},
    {"notices"},  # tells of rounds, so it knows collect's reports
    {"collect", "restore", "retention", "copies"},
    {"inspection", "compare"},
    {"store"},
    {"estate"},
    {
        "errors",
        "sequences",
        "times",
        "tls",
        "packed",
        "patience",
        "processes",
        "visible",
        "threads",
        "workers",
        "__init__",
    },
]
_RANK = {package: rank for rank, row in enumerate(LAYERS) for package in row}


def _package(module: Path) -> str:
    return module.relative_to(SOURCE).parts[0].removesuffix(".py")


def _imports(module: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(module.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


@pytest.mark.parametrize("module", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_dependencies_point_one_way(module: Path) -> None:
    package = _package(module)
    if package == "__main__":
        return
    for imported in _imports(module):
        parts = imported.split(".")
        if parts[0] == "historon" and len(parts) > 1 and parts[1] != package:
            assert _RANK[parts[1]] > _RANK[package], f"{module} must not import {imported}"
        if parts[0] in ("click", "rich"):
            assert package == "cli", f"only cli may import {imported}"


def _uses(module: Path) -> set[str]:
    return {ast.unparse(node.func) for node in ast.walk(ast.parse(module.read_text())) if isinstance(node, ast.Call)}


@pytest.mark.parametrize("module", [m for m in MODULES if _package(m) not in ("cli", "__main__")], ids=lambda p: p.name)
def test_the_core_neither_prints_nor_exits_nor_sleeps(module: Path) -> None:
    banned = {"print", "input", "sys.exit", "exit", "time.sleep", "sleep"}
    assert not _uses(module) & banned


def test_only_secrets_and_the_command_line_read_the_environment() -> None:
    readers = {
        _package(m) + "/" + m.name for m in MODULES if "os.environ" in m.read_text() or "getenv" in m.read_text()
    }
    assert readers == {"cli/app.py", "estate/secrets.py"}


@pytest.mark.parametrize("module", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_what_is_public_is_named_sorted_and_there(module: Path) -> None:
    if module.name in ("__main__.py",) or not module.read_text().strip():
        return
    name = ".".join(module.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")
    loaded = importlib.import_module(name)
    public = getattr(loaded, "__all__", None)
    if public is None:
        assert module.name == "__init__.py", f"{module} names nothing public"
        return
    assert all(hasattr(loaded, one) for one in public)
    assert len(set(public)) == len(public)


def test_every_setting_is_documented() -> None:
    text = (ROOT / "docs" / "estate-file.md").read_text()
    for table in (*vars(model).values(), *vars(procedures).values()):
        if isinstance(table, type) and issubclass(table, msgspec.Struct) and table is not procedures.Table:
            for field in msgspec.structs.fields(table):
                assert f"`{field.encode_name}`" in text or f"[{field.encode_name}" in text, (table, field.encode_name)


def test_every_exit_code_is_documented() -> None:
    text = (ROOT / "docs" / "exit-codes.md").read_text()
    assert {int(code) for code in re.findall(r"^\| (\d+) \|", text, re.MULTILINE)} == set(ExitCode)


def test_the_steps_in_the_documents_are_right() -> None:
    steps = [
        found[1]
        for page in (ROOT / "docs").glob("*.md")
        for found in re.finditer(
            r"^ {4,}(?:steps = \[)?(\{ (?:send|keep|pull|await|each|pick|clock|tidy) = .*\})\]?,?(?: +#.*)?$",
            page.read_text(),
            re.MULTILINE,
        )
    ]
    assert len(steps) >= 30
    for step in steps:
        written = tomllib.loads(f"step = {step}")["step"]
        assert not list(problems_of(written, procedures.Step)), step


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
