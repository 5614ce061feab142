"""Work on hostile bytes in processes of its own: bounded in time and memory, and nobody else waits for it."""

import asyncio
import os
import re
import signal
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from historon.base import workers
from historon.base.patience import lateness, within
from historon.base.workers import Done, Workers
from historon.cli.main import run
from historon.estate import Expression
from tests import tasks
from tests.conftest import EstateFolder


@pytest.fixture
def made() -> Iterator[Workers]:
    made = Workers()
    yield made
    made.close()


def test_what_is_yielded_comes_back_and_files_go_along(made: Workers, tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"alpha")

    async def play() -> None:
        assert (await made.run("k", tasks.counts, 3)).pieces == [0, 1, 2]
        with (tmp_path / "a").open("rb") as file:
            assert (await made.run("k", tasks.reads, files=[file])).pieces == [b"alpha"]
        files = [(tmp_path / "a").open("rb") for _ in range(250)]
        assert (await made.run("k", tasks.reads, files=files)).pieces[:1] == [b"alpha"]
        assert len((await made.run("k", tasks.fileno_count, files=files)).pieces) == 250
        for file in files:
            file.close()
        done = await asyncio.gather(*(made.run(f"k{number}", tasks.counts, number) for number in range(40)))
        assert [len(one.pieces) for one in done] == list(range(40))

    asyncio.run(play())
    assert made.lost == 0


def test_what_comes_back_is_plain_and_of_the_type_that_was_asked_for(made: Workers) -> None:
    """Whoever looks at foreign bytes may have been taken over by them."""

    async def play() -> None:
        done = await made.run("k", tasks.pickles)
        assert [type(one) for one in done.pieces] == [bytes]
        assert "Ran cannot be handed over" in done.trouble
        done = await made.run("k", tasks.lies, reply=int)
        assert (done.pieces, "ended" in done.trouble) == ([], True)
        assert (await made.run("k", tasks.counts, 2, reply=int)).pieces == [0, 1]
        assert (await made.run("k", tasks.patterns, reply=str)).pieces == ["^a"]

    asyncio.run(play())
    assert not Path("/tmp/historon-was-taken-over").exists()


def test_the_time_that_workers_took_is_counted_as_their_askers() -> None:
    """Otherwise no measurement of a command would be true (times(2))."""
    asker = Workers(lanes=2)
    before = os.times()
    done = asyncio.run(asker.run("k", tasks.labours, 0.3))
    asker.close()
    assert done.pieces == ["done"]
    after = os.times()
    assert sum(after[2:4]) - sum(before[2:4]) > 0.29


def test_what_raises_crashes_or_grows_is_told_in_words_and_the_next_task_is_done(made: Workers) -> None:
    async def play() -> None:
        assert await made.run("k", tasks.raises) == Done(["begun"], "LookupError: no part of that kind")
        for work in (tasks.crashes, tasks.grows):
            done = await made.run("k", work)
            assert done.pieces == ["begun"]
            assert "needed too much memory, or crashed" in done.trouble
        assert (await made.run("k", tasks.counts, 2)).pieces == [0, 1]

    asyncio.run(play())
    assert made.lost >= 2


def test_what_takes_too_long_is_ended_and_keeps_nobody_waiting(made: Workers, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(workers, "QUICK_S", 5.0)

    def hang() -> list["asyncio.Task[Done]"]:
        return [asyncio.create_task(made.run(f"slow{number}", tasks.hangs)) for number in range(2)]

    async def play() -> None:
        monkeypatch.setattr(workers, "SLOW_S", 600.0)
        slow = hang()
        for number in range(60):
            assert (await made.run(f"k{number}", tasks.counts, number)).trouble == ""
        assert not any(task.done() for task in slow), "the others were not behind them"
        for task in slow:
            task.cancel()
        await asyncio.wait(slow)

        monkeypatch.setattr(workers, "SLOW_S", 3.0)
        for task in hang():
            assert await task == Done(["begun"], "it took more than 3 s")
        assert made.known == {"slow0", "slow1"}, "they wait in their own lane from now on"
        assert (await made.run("slow0", tasks.counts, 1)).pieces == [0]
        assert made.known == {"slow1"}

    asyncio.run(play())


def test_a_keeper_that_was_killed_is_replaced(made: Workers) -> None:
    async def play() -> None:
        await made.run("k", tasks.counts, 1)
        os.kill(made._keeper._pid, signal.SIGKILL)
        os.waitid(os.P_PID, made._keeper._pid, os.WEXITED | os.WNOWAIT)
        for worker in made._quick:
            worker.end()
        assert (await made.run("k", tasks.counts, 2)).pieces == [0, 1]

    asyncio.run(play())


def test_that_no_process_can_be_started_is_said_as_such(made: Workers, monkeypatch: pytest.MonkeyPatch) -> None:
    def nothing(*_: object, **__: object) -> None:
        raise BlockingIOError(11, "Resource temporarily unavailable")

    monkeypatch.setattr(made._keeper, "worker", nothing)
    done = asyncio.run(made.run("k", tasks.counts, 1))
    assert done == Done([], "no process could be started to inspect it: Resource temporarily unavailable")


def test_nothing_is_left_behind_when_the_asker_is_gone(estate: EstateFolder) -> None:
    script = (
        "import asyncio, os, sys, tests.test_workers as t\n"
        "from historon.base.workers import Workers\n"
        "w = Workers(); w.start()\n"
        "async def main():\n"
        "    await asyncio.gather(*(w.run(str(n), t.tasks.counts, 1) for n in range(4)))\n"
        "    print(*[one._pid for one in w._quick if one._pid], flush=True)\n"
        "    os.kill(os.getpid(), 9)\n"
        "asyncio.run(main())\n"
    )
    import subprocess
    import sys

    done = subprocess.run(
        [sys.executable, "-c", script], cwd=Path(__file__).parent.parent, capture_output=True, text=True, check=False
    )
    processes = [int(number) for number in done.stdout.split()]
    assert processes, done.stderr
    deadline = time.monotonic() + 60
    while any(map(_runs, processes)):
        assert time.monotonic() < deadline
        os.sched_yield()


def _runs(process: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{process}/stat").read_text().rpartition(")")[2][:3]
    except (FileNotFoundError, ProcessLookupError):
        return False


# ---- through a round -------------------------------------------------------------------------------------------------

_ESTATE = """
[estate]
name = "Test"
[procedures.files]
over = "local"
steps = [{ pull = "{path}", as = "x.cfg" }]
noise = ['(?=a)(a+)+$']
[[sources]]
name = "hostile"
procedure = "files"
values = { path = "hostile" }
"""


def test_an_export_that_takes_too_long_to_compare_is_stored_and_told_and_the_others_go_on(
    estate: EstateFolder, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """The expression of the estate file goes to and fro for ages, as it looks ahead, which no linear engine does."""
    honest = "".join(
        f'[[sources]]\nname = "honest-{n}"\nprocedure = "files"\nvalues = {{ path = "h{n}" }}\n' for n in range(5)
    )
    estate.write(_ESTATE + honest)
    for number in range(5):
        (estate.path / f"h{number}").write_text("one\n")
    (estate.path / "hostile").write_text("one\n")
    assert estate.run("collect").code == 0
    monkeypatch.setattr(workers, "QUICK_S", 1.0)
    monkeypatch.setattr(workers, "SLOW_S", 3.0)
    (estate.path / "hostile").write_text("a" * 64 + "b\n")
    for number in range(5):
        (estate.path / f"h{number}").write_text("two\n")
    assert run(["collect", "--estate", str(estate.path)]) == 0
    told = capsys.readouterr().out
    assert "not compared with the version before: it took more than 3 s" in told
    assert told.index("hostile ") > max(told.index(f"honest-{number}") for number in range(5))
    store = estate.store()
    assert [len(store.versions(name)) for name in ("hostile", "honest-1")] == [2, 2]
    assert store.state("hostile").good == 2
    store.close()


_ANSWERS = """
[estate]
name = "Test"
[procedures.asks]
over = "local"
steps = [
  { send = ["cat", "{path}"], check = { lacks = ['(?=a)(a+)+$'] }, learn = { word = "xpath://word" }, when = { path = 'h' } },
  { keep = ["cat", "{path}"], as = "x.xml" },
]
"""


def test_an_answer_that_takes_too_long_to_read_fails_its_own_source_alone(
    estate: EstateFolder, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    names = ("hostile", *(f"h{number}" for number in range(5)))
    estate.write(
        _ANSWERS
        + "".join(
            f'[[sources]]\nname = "{name}"\nprocedure = "asks"\nvalues = {{ path = "{name}" }}\n' for name in names
        )
    )
    for name in names:
        (estate.path / name).write_text("<answer><word>fine</word></answer>\n")
    (estate.path / "hostile").write_text("a" * 64 + "b\n")
    monkeypatch.setattr(workers, "QUICK_S", 1.0)
    monkeypatch.setattr(workers, "SLOW_S", 3.0)
    assert run(["collect", "--estate", str(estate.path)]) == 3
    told = capsys.readouterr()
    words = "the answer could not be searched: it took more than 3 s"
    assert words in " ".join((told.out + told.err).split())
    store = estate.store()
    assert [len(store.versions(name)) for name in names] == [0, 1, 1, 1, 1, 1]
    store.close()


@pytest.mark.parametrize(
    "clause", ["prompt = '(?<!x)#$'", "pager = '(a)\\1'", "login_page = 'x{1001}'", "pager = '(?=x)'"]
)
def test_what_is_looked_for_while_a_source_is_spoken_to_is_linear(estate: EstateFolder, clause: str) -> None:
    over = "https" if "login_page" in clause else "telnet"
    prompt = "" if "prompt" in clause or over == "https" else "prompt = '>$'\n"
    estate.write(
        f'[estate]\nname = "T"\n[procedures.p]\nover = "{over}"\n{prompt}{clause}\nsteps = [{{ keep = "x", as = "x" }}]\n'
    )
    checked = estate.run("doctor")
    assert checked.code == 4, checked.said
    assert "not an expression that is allowed here" in checked.err
    assert clause.partition(" ")[0] in checked.said


def test_expressions_that_people_write_are_matched_in_linear_time_where_that_can_be() -> None:
    hostile = Expression(b"(a+)+$")
    assert hostile.is_linear
    assert hostile.search(b"a" * 100_000 + b"!") is None
    assert not Expression(b"(?=a)b").is_linear


@pytest.mark.parametrize(
    "written",
    [
        rb"^\S+[>#] ?$",
        rb"uptime is (\d+) s",
        rb"^(?i)x|y$",
        rb"(a)|(b)",
        rb"\bport-\d+\b",
        rb"[^\]]+",
        rb"^$",
        rb"x*",
        rb"(?P<n>\w+)=",
        "é".encode(),
    ],
)
@pytest.mark.parametrize(
    "text", [b"", b"x", b"edge-1# ", b"uptime is 12 s\nport-3 b a\n", "né\n".encode(), b"a]b\n\nn=1\n", b"Xy"]
)
def test_both_engines_find_the_same(written: bytes, text: bytes) -> None:
    try:
        other = re.compile(written, re.MULTILINE)
    except re.error:
        pytest.skip("not an expression of this language")
    ours = Expression(written)
    assert [one.span() for one in ours.finditer(text)] == [one.span() for one in other.finditer(text)]
    assert ours.groups == other.groups
    for start in range(len(text)):
        one, two = ours.search(text, start), other.search(text, start)
        assert (one and (one.span(), one.groups())) == (two and (two.span(), two.groups()))
    one, two = ours.fullmatch(text), other.fullmatch(text)
    assert (one is None) == (two is None)


# ---- deadlines -------------------------------------------------------------------------------------------------------


def test_a_deadline_does_not_count_the_time_in_which_we_were_busy() -> None:
    async def answers() -> str:
        async with within(timedelta(seconds=1.5)):
            await asyncio.sleep(0.6)
            _busy(2.0)
            await asyncio.sleep(0.3)
            return "in time"

    async def late() -> None:
        async with within(timedelta(seconds=0.5)):
            await asyncio.Event().wait()

    assert asyncio.run(answers()) == "in time"
    with pytest.raises(TimeoutError):
        asyncio.run(late())


def test_how_late_the_loop_was_is_known() -> None:
    async def play() -> timedelta:
        async with within(None):
            await asyncio.sleep(0.4)
            _busy(1.0)
            await asyncio.sleep(0.3)
            return lateness()

    assert asyncio.run(play()) > timedelta(seconds=0.5)


def _busy(seconds: float) -> None:
    """Keep the loop busy, as somebody's work would."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        sum(range(1000))
