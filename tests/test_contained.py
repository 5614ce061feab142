"""What goes wrong about one source is its own: its version is stored all the same, and the round and the others go on."""

import asyncio
import importlib
import os
import subprocess
import threading
from contextlib import AsyncExitStack, suppress

import pytest

from historon.cli.main import run
from historon.collect import Slots
from historon.estate import read_estate
from historon.threads import StillBusyError, apart
from historon.workers import Workers
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder
from tests.leaping import InProcess

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
        ("round", "requirements_of"),
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
        with pytest.raises(StillBusyError, match="has not come back yet"):
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


def test_sources_that_failed_last_take_half_of_the_places(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nat_once = 4'))
    estate = read_estate(files_estate.path / "historon.toml")
    source = estate.sources["files"]

    async def play() -> None:
        places = Slots(estate)
        async with AsyncExitStack() as held:
            for _ in range(2):
                await held.enter_async_context(places.for_source(source, failing=True))
            third = asyncio.create_task(held.enter_async_context(places.for_source(source, failing=True)))
            for _ in range(2):
                await held.enter_async_context(places.for_source(source))
            assert not third.done()
            third.cancel()

    asyncio.run(play())


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
    assert process.stdout.readline().split()[:2] == ["files", "first"], "before the secret has come"
    (files_estate.path / "slow").write_text("secret\n")
    assert process.stdout.readline().split()[:2] == ["behind", "failed"]
    process.communicate()
