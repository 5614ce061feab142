"""What goes wrong about one source is its own: its version is stored anyway, and the round and the others go on."""

import asyncio
import importlib
import os
import subprocess
import sys
import threading
from collections.abc import Sequence
from contextlib import AsyncExitStack, suppress
from pathlib import Path

import pytest

from historon.base.threads import StillBusyError, apart
from historon.base.workers import Workers
from historon.cli.main import run
from historon.collect import Slots
from historon.collect.brakes import Brake
from historon.collect.slots import Record
from historon.estate import Estate, read_estate
from historon.store import FolderStore
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, Result, collect, sampled
from tests.leaping import InProcess
from tests.waiting import wait_for

_ESTATE = """
[estate]
name = "Test"
[procedures.files]
over = "local"
steps = [{ pull = "{path}", as = "export.xml" }]
[[requirements]]
name = "r"
must = ['a']
[channels.c]
kind = "file"
path = "told.jsonl"
tell = "always"
[[sources]]
name = "odd"
procedure = "files"
values = { path = "odd" }
[[sources]]
name = "other"
procedure = "files"
values = { path = "other" }
"""


@pytest.fixture
def two(estate: EstateFolder) -> EstateFolder:
    estate.write(_ESTATE)
    for name in ("odd", "other"):
        (estate.path / name).write_text(f"<a><b>{name}</b></a>\n")
    return estate


@pytest.mark.parametrize(
    ("module", "name"),
    [
        ("judging", "inspect"),
        ("judging", "compare_exports"),
        ("judging", "signature"),
        ("judging", "each_fingerprint"),
        ("judging", "unmet"),
        ("judging", "changed_lines"),
        ("round", "same_rules"),
        ("round", "question_about"),
        ("round", "news_of"),
    ],
)
def test_whatever_raises_about_one_source_is_its_own(
    two: EstateFolder, module: str, name: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    assert two.run("collect").code == 0
    for one in ("odd", "other"):
        (two.path / one).write_text(f"<a><b>{one}</b><c>poisoned-{one}</c></a>\n")
    inside = importlib.import_module(f"historon.collect.{module}")
    seen: list[int] = []

    def broken(*arguments: object, **named: object) -> object:
        seen.append(1)
        if len(seen) == 1:  # the source whose turn comes first
            raise ZeroDivisionError("unforeseen")
        return real(*arguments, **named)

    real = getattr(inside, name)
    monkeypatch.setattr(Workers, "run", InProcess.run)
    monkeypatch.setattr(inside, name, broken)
    code = run(["collect", "--estate", str(two.path)])
    told = capsys.readouterr()
    assert code in (0, 3), told
    assert "Traceback" not in told.out + told.err
    store = two.store()
    (last, *_) = store.rounds(1)
    assert last.ended is not None, "the round came to its end"
    outcomes = {visit.source: visit.outcome for visit in store.visits(last.number)}
    assert len(outcomes) == 2
    assert "changed" in outcomes.values(), "the other one is as if nothing had happened"
    kept = [one for one in ("odd", "other") if len(store.versions(one)) == 2]
    failed = [one for one, outcome in outcomes.items() if outcome == "failed"]
    assert len(kept) + len(failed) == 2, "stored all the same, or told as failed: never silently gone"
    store.close()


@pytest.mark.parametrize(
    "text",
    [
        '<!DOCTYPE a [<!ENTITY e "x">]><a><b>&e;</b></a>',
        '<a xmlns="relative/name"><b>1</b></a>',
        '<!DOCTYPE a SYSTEM "file:///etc/passwd"><a/>',
        '<a xmlns:p="x y z"><p:b/></a>',
        "<a>&unknown;</a>",
    ],
)
def test_no_document_ends_a_round(two: EstateFolder, text: str) -> None:
    assert two.run("collect").code == 0
    for number in (1, 2):
        (two.path / "odd").write_text(text + f"<!-- {number} -->\n")
        (two.path / "other").write_text(f"<a><b>{number}</b></a>\n")
        result = two.run("collect")
        assert result.code in (0, 3), result.said
        assert "other                     changed" in result.out
    store = two.store()
    assert len(store.versions("odd")) >= 2, "stored all the same"
    store.close()


# ---- what hangs holds up nobody else ---------------------------------------------------------------------------------


def test_what_never_comes_back_takes_no_place_from_others() -> None:
    async def play() -> None:
        gone = threading.Event()
        hangs = asyncio.create_task(apart("a dead mount", gone.wait))
        await asyncio.sleep(0)
        for number in range(50):  # more than there are threads in a pool
            assert await apart(f"another {number}", int, "7") == 7
        with pytest.raises(StillBusyError, match="has not ended yet"):
            await apart("a dead mount", int)
        hangs.cancel()
        with pytest.raises(StillBusyError):
            await apart("a dead mount", int)
        gone.set()
        while True:
            with suppress(StillBusyError):
                assert await apart("a dead mount", int) == 0
                break
            await asyncio.sleep(0)

    asyncio.run(play())


async def _admitted(estate: Estate, records: Sequence[Record]) -> list[Record]:
    """Which of these sources, that all stay, have a place."""
    places, source = Slots(estate), estate.sources["files"]
    store = FolderStore(estate.folder / "store")
    places.expect([source], store)
    store.close()
    async with AsyncExitStack() as held:
        tasks = [asyncio.create_task(held.enter_async_context(places.for_source(source, one))) for one in records]
        for _ in range(10):
            await asyncio.sleep(0)
        found = [one for one, task in zip(records, tasks, strict=True) if task.done()]
        for task in tasks:
            task.cancel()
        return found


def test_places_are_kept_for_sources_with_a_good_record(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nat_once = 8'))
    estate = read_estate(files_estate.path / "historon.toml")
    good, failing, never = Record.GOOD, Record.FAILING, Record.NEVER
    assert asyncio.run(_admitted(estate, [never] * 9)) == [never] * 8, "in the first round all places are for all"
    collect(files_estate)
    assert asyncio.run(_admitted(estate, [never] * 20 + [good] * 6)) == [never] * 2 + [good] * 6
    assert asyncio.run(_admitted(estate, [never] * 9 + [failing] * 9 + [good] * 9)).count(good) == 4
    assert asyncio.run(_admitted(estate, [failing] * 9)) == [failing] * 4


def test_an_account_is_tried_with_a_source_of_good_record_while_others_hang() -> None:
    async def play() -> int:
        brake, inside = Brake("reader"), 0

        async def use(*, proven: bool) -> None:
            nonlocal inside
            async with brake.turn(proven=proven):
                inside += 1
                if proven:
                    await brake.was_let_in()
                await asyncio.Event().wait()

        tasks = [asyncio.create_task(use(proven=False)) for _ in range(9)]
        await asyncio.sleep(0)
        before = inside
        tasks.append(asyncio.create_task(use(proven=True)))
        for _ in range(20):
            await asyncio.sleep(0)
        for task in tasks:
            task.cancel()
        assert before == 3
        return inside

    assert asyncio.run(play()) == 10, "once the account was let in nobody waits for those that hang"


def test_a_secret_that_is_slow_to_come_keeps_only_its_own_source_waiting(files_estate: EstateFolder) -> None:
    os.mkfifo(files_estate.path / "slow")
    files_estate.write(
        FILES_ESTATE
        + """
[credentials.slow]
user = "x"
password = "command:cat slow"
[procedures.web]
over = "https"
tries = 1
steps = [{ keep = "GET /", as = "x" }]
[[sources]]
name = "behind"
procedure = "web"
address = "127.0.0.1"
port = 9
credentials = "slow"
"""
    )
    process = subprocess.Popen([PROGRAM, "collect"], cwd=files_estate.path, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline().split()[:2] == ["files", "new"], "before the secret has come"
    (files_estate.path / "slow").write_text("secret\n")
    assert process.stdout.readline().split()[:2] == ["behind", "failed"]
    process.communicate()


# ---- commands that look into what is stored --------------------------------------------------------------------------


def _within(estate: EstateFolder, limits: str, *arguments: str) -> Result:
    """What a command says that has these limits for each version."""
    script = f"import sys; from historon.cli import bounded; {limits}; from historon.cli.main import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", script, *arguments], cwd=estate.path, capture_output=True, text=True, check=False
    )
    return Result(done.returncode, done.stdout, done.stderr)


@pytest.fixture
def heavy(files_estate: EstateFolder) -> EstateFolder:
    """An estate with a source that takes for ever, when some things are looked for, and one that does not."""
    other = FILES_ESTATE.partition("[[sources]]")[2].replace('"files"', '"other"', 1)
    steps = 'steps = [{ pull = "{name}" }]'
    files_estate.write(FILES_ESTATE.replace('steps = [{ pull = "data" }]', steps) + f"[[sources]]{other}")
    for name, text in (("files", "a" * 40 + "!\n"), ("other", "aab\n")):
        (files_estate.path / name).mkdir()
        (files_estate.path / name / "a.conf").write_text(text)
    assert collect(files_estate).code == 0
    return files_estate


@pytest.mark.campaign
def test_what_takes_for_ever_is_left_out_and_named(heavy: EstateFolder) -> None:
    result = _within(heavy, "bounded._SECONDS = 1", "find", "-e", "(a+)+b")
    assert result.code == 0, result.err
    assert "aab" in result.out
    assert "not searched: files files/a.conf, which needs more than 1 s" in result.out
    result = _within(heavy, "bounded._SECONDS = 1", "trace", "files", "-e", "(a+)+b")
    assert (result.code, result.out) == (3, "")
    assert "files@1 cannot be examined: it needs more than 1 s" in result.err


@pytest.mark.campaign
def test_what_takes_too_much_memory_is_left_out_and_named(heavy: EstateFolder) -> None:
    (heavy.path / "files" / "a.conf").write_text("".join(f"{n}\n" for n in range(2_000_000)))
    collect(heavy)
    result = _within(heavy, "bounded._MEMORY = 350 * 10**6", "diff", "files@1", "files@2")
    assert result.code == 3, result.out
    assert "files@2 cannot be examined: it needs too much memory" in result.err
    assert _within(heavy, "bounded._MEMORY = 350 * 10**6", "diff", "files@1", "other").code == 1


def test_who_waits_for_a_command_may_end_it(heavy: EstateFolder) -> None:
    process = subprocess.Popen([PROGRAM, "find", "-e", "(a+)+b"], cwd=heavy.path, stderr=subprocess.PIPE)
    wait_for(lambda: _children_of(process.pid))
    process.terminate()
    assert process.wait() != 0
    assert process.stderr is not None
    process.stderr.close()


def _children_of(pid: int) -> list[str]:
    return Path(f"/proc/{pid}/task/{pid}/children").read_text().split()


@pytest.mark.parametrize(
    "words", sampled(2, [["collect"], ["status"], ["find", "one"], ["serve", "--once"], ["verify"], ["doctor"]])
)
def test_a_command_may_be_started_without_input_and_with_ctrl_c_ignored(
    files_estate: EstateFolder, words: list[str]
) -> None:
    script = f"trap '' INT; exec {PROGRAM} {' '.join(words)} <&-"
    done = subprocess.run(["sh", "-c", script], cwd=files_estate.path, capture_output=True, text=True, check=False)
    assert done.returncode in (0, 1), done.stderr
