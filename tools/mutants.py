"""Change the program in small ways, one at a time, and see whether a test notices: `make mutants`.

Mutations are chosen by a seed, evenly over the packages below. Each is made in a copy of the tree, and the tests of
its package run there until one fails. What no test notices is printed as a diff; what cannot be noticed, as nothing
changes by it, is named in EQUIVALENT with the reason.
"""

import argparse
import ast
import difflib
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from queue import SimpleQueue
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
# By package or module, the tests that answer for it, the quickest first.
TESTS = {
    "store/encoding": ("test_chains", "test_deltas", "test_store", "test_disasters"),
    "store/ledger": ("test_store", "test_verify", "test_identities", "test_disasters", "test_finding"),
    "store/sqlite": (
        "test_store",
        "test_verify",
        "test_copies",
        "test_copies_far",
        "test_copies_contradicted",
        "test_disasters",
    ),
    "store": ("test_store", "test_verify", "test_restore", "test_pauses", "test_proof", "test_push", "test_identities"),
    "inspection": ("test_limits", "test_inspection", "test_whole", "test_torture", "test_contained"),
    "retention": ("test_retention", "test_pruning", "test_smaller_estates", "test_keeping"),
    "estate/recurrence.py": ("test_timetable", "test_estate_files"),
    "timetable/due.py": ("test_timetable", "test_silence"),
    "timetable/planned.py": ("test_timetable", "test_language"),
    "notices": ("test_telling", "test_mail", "test_channels", "test_silence", "test_conditions"),
    "restore": ("test_restore", "test_sections", "test_push", "test_push_exact", "test_proof", "test_language"),
    "api/pushing.py": ("test_push", "test_push_exact", "test_open_systems"),
}
_NOT = ("postgresql", "interface.py", "__init__.py", "tables.py", "schema.py")
EQUIVALENT: dict[str, str] = {
    "store/encoding/deltas.py _level: return _HARD if thorough and len(content) <= _THOROUGH else _QUICK -> "
    "return _HARD if thorough and len(content) < _THOROUGH else _QUICK": "how hard it is compressed, not what it holds",
    "store/sqlite/transactions.py _opened: db.close() -> pass": "it is closed when nobody has it any more",
    "store/ledger/contents.py sweep: self.forget() -> pass": "what is swept is never asked for again: room, not truth",
}
_COMPARED = {
    ast.Lt: "<=",
    ast.LtE: "<",
    ast.Gt: ">=",
    ast.GtE: ">",
    ast.Eq: "!=",
    ast.NotEq: "==",
    ast.In: "not in",
    ast.NotIn: "in",
    ast.Is: "is not",
    ast.IsNot: "is",
}
_TIMEOUT_S = 300


@dataclass(frozen=True)
class Mutation:
    """One change: in this file, from this place to that, another text."""

    file: str
    line: int
    begin: int
    end: int
    text: str

    @property
    def name(self) -> str:
        """By what it is called in EQUIVALENT: the file, the function, its line as it is and as it becomes."""
        before, after = (ROOT / self.file).read_text().splitlines(), self.changed().splitlines()
        above = [line for line in before[: self.line] if line.lstrip().startswith(("def ", "async def "))]
        function = above[-1].partition("def ")[2].partition("(")[0]
        module = self.file.removeprefix("src/historon/")
        return f"{module} {function}: {before[self.line - 1].strip()} -> {after[self.line - 1].strip()}"

    def changed(self) -> str:
        """The module with it."""
        content = (ROOT / self.file).read_bytes()
        return (content[: self.begin] + self.text.encode() + content[self.end :]).decode()

    def diff(self) -> str:
        """What it changes."""
        before, after = (ROOT / self.file).read_text().splitlines(), self.changed().splitlines()
        return "\n".join(list(difflib.unified_diff(before, after, self.file, self.file, n=1, lineterm=""))[2:])


def main() -> None:
    """Try so many mutations, print those that survived, and how many were caught."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--number", type=int, default=200)
    parser.add_argument("--seed", default="1")
    parser.add_argument("--package", choices=TESTS, help="only this one")
    parser.add_argument("--at-once", type=int, default=os.cpu_count())
    given = parser.parse_args()
    packages = [given.package] if given.package else [*TESTS]
    chosen = _chosen(packages, given.number, given.seed)
    with tempfile.TemporaryDirectory() as name:
        trees: SimpleQueue[Path] = SimpleQueue()
        for number in range(given.at_once):
            trees.put(_copied(Path(name) / str(number)))
        with ThreadPoolExecutor(given.at_once) as pool:
            results = list(pool.map(partial(_tried, trees), chosen))
    caught = sum(results)
    print(f"{caught} of {len(results)} mutations were caught: {caught / max(1, len(results)):.0%}")
    sys.exit(caught < 0.9 * len(results))


def _chosen(packages: list[str], number: int, seed: str) -> list[tuple[str, Mutation]]:
    """Mutations, as many of each package, by the seed; equivalent ones are left out."""
    found = []
    for package in packages:
        every = [one for file in _files(package) for one in _mutations(file)]
        rng = random.Random(f"{seed} {package}")  # noqa: S311 (nothing is kept secret by it)
        picked = rng.sample(every, min(len(every), -(-number // len(packages))))
        found += [(package, one) for one in picked if one.name not in EQUIVALENT]
    return found[:number]


def _files(package: str) -> list[str]:
    """The modules of a package that are no other entry's."""
    place = ROOT / "src" / "historon" / package
    files = [place] if place.is_file() else sorted(place.rglob("*.py"))
    others = [one for one in TESTS if one != package and one.startswith(f"{package}/")]
    names = [str(file.relative_to(ROOT)) for file in files]
    return [
        name
        for name in names
        if not any(part in name for part in _NOT) and not any(f"historon/{one}" in name for one in others)
    ]


class _Source:
    """A module with its bytes, and where its nodes are in them."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.content = (ROOT / file).read_bytes()
        self._starts = [0]
        for line in self.content.split(b"\n"):
            self._starts.append(self._starts[-1] + len(line) + 1)

    def functions(self) -> Iterator[ast.AST]:
        """The nodes in functions: what is calculated, and not what is declared."""
        for one in ast.walk(ast.parse(self.content)):
            if isinstance(one, ast.FunctionDef | ast.AsyncFunctionDef):
                for statement in one.body:
                    yield from ast.walk(statement)

    def begin(self, node: ast.expr | ast.stmt) -> int:
        """Where a node begins."""
        return self._starts[node.lineno - 1] + node.col_offset

    def end(self, node: ast.expr | ast.stmt) -> int:
        """Where it ends."""
        assert node.end_lineno is not None
        assert node.end_col_offset is not None
        return self._starts[node.end_lineno - 1] + node.end_col_offset

    def change(self, begin: int, end: int, word: str, other: str | None = None) -> Mutation:
        """What is between becomes the one word, or one word in it becomes the other."""
        text = word if other is None else self.content[begin:end].decode().replace(word, other, 1)
        return Mutation(self.file, self.content.count(b"\n", 0, begin) + 1, begin, end, text)


def _mutations(file: str) -> Iterator[Mutation]:
    """All small changes of a module that may mean something."""
    source = _Source(file)
    for node in source.functions():
        make = _MAKERS.get(type(node))
        change = make(source, node) if make else None
        if change is not None:
            yield change


def _compare(source: _Source, node: Any) -> Mutation | None:
    if len(node.ops) > 1:
        return None
    return source.change(source.end(node.left), source.begin(node.comparators[0]), f" {_COMPARED[type(node.ops[0])]} ")


def _and_or(source: _Source, node: Any) -> Mutation:
    words = ("and", "or") if isinstance(node.op, ast.And) else ("or", "and")
    return source.change(source.end(node.values[0]), source.begin(node.values[1]), *words)


def _not_so(source: _Source, node: Any) -> Mutation | None:
    return source.change(source.begin(node), source.begin(node.operand), "") if isinstance(node.op, ast.Not) else None


def _number(source: _Source, node: Any) -> Mutation | None:
    if type(node.value) is not int:
        return None
    return source.change(source.begin(node), source.end(node), str(node.value + 1))


def _sum(source: _Source, node: Any) -> Mutation | None:
    if not isinstance(node.op, ast.Add | ast.Sub):
        return None
    words = ("+", "-") if isinstance(node.op, ast.Add) else ("-", "+")
    return source.change(source.end(node.left), source.begin(node.right), *words)


def _statement(source: _Source, node: Any) -> Mutation | None:
    if not isinstance(node.value, ast.Call | ast.Await):
        return None
    return source.change(source.begin(node), source.end(node), "pass")


_MAKERS: dict[type[ast.AST], Callable[[_Source, Any], Mutation | None]] = {
    ast.Compare: _compare,
    ast.BoolOp: _and_or,
    ast.UnaryOp: _not_so,
    ast.Constant: _number,
    ast.BinOp: _sum,
    ast.Expr: _statement,
}


def _copied(place: Path) -> Path:
    """A copy of what the tests need."""
    for name in ("src", "tests", "docs", "year", "torture", "tools", "bench"):
        shutil.copytree(ROOT / name, place / name)
    for name in ("pyproject.toml", "README.md", "CONTRIBUTING.md", "CHANGELOG.md", "Makefile"):
        shutil.copy(ROOT / name, place / name)
    return place


def _tried(trees: "SimpleQueue[Path]", chosen: tuple[str, Mutation]) -> bool:
    """Whether a test notices."""
    package, mutation = chosen
    tree = trees.get()
    file = tree / mutation.file
    try:
        file.write_text(mutation.changed())
        caught = any(_fails(tree, name) for name in TESTS[package])
    finally:
        shutil.copy2(ROOT / mutation.file, file)  # with its time, so that its byte code holds
        trees.put(tree)
    print(f"{'caught  ' if caught else 'SURVIVED'} {mutation.name}", flush=True)
    if not caught:
        print(mutation.diff(), flush=True)
    return caught


def _fails(tree: Path, name: str) -> bool:
    """Whether one file of tests fails in a tree; tests that never end have noticed something, too."""
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-x",
        "-p",
        "no:cacheprovider",
        "-n",
        "0",
        f"tests/{name}.py",
    ]
    environment = {**os.environ, "PYTHONPATH": str(tree / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        done = subprocess.run(command, cwd=tree, env=environment, capture_output=True, check=False, timeout=_TIMEOUT_S)
    except subprocess.TimeoutExpired:
        return True
    if done.returncode not in (0, 1, 2):  # passed, failed, could not be imported
        raise RuntimeError(done.stdout.decode() + done.stderr.decode())
    return done.returncode > 0


if __name__ == "__main__":
    main()
