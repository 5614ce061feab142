"""The front door: what commands do, from Python; and docs/library.md, of which every example is run."""

import asyncio
import re
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import historon
from historon.api import Copy, Estate, Ownership, PrunePlan, PushPlan, Round, Source, Version
from historon.base.errors import OutsideError, StoreError, UsageError
from historon.collect import SourceResult
from historon.estate import EstateError, RequirementState
from historon.store import Outcome
from tests.conftest import EstateFolder

PAGE = (Path(__file__).parent.parent / "docs" / "library.md").read_text()
EXAMPLES = re.findall(r"```python\n(.*?)```", PAGE, re.DOTALL)

_ESTATE = """
[estate]
name = "Library"
time_zone = "Europe/Oslo"
[procedures.p]
over = "local"
noise = ['^! saved ']
steps = [{ keep = ["cat", "{name}.cfg"], as = "running.cfg" }]
[retention.short]
all = "1ms"
at_least = 2
[defaults]
retention = "short"
[[requirements]]
name = "time"
must = ["time-server 10.20.0.9"]
[[sources]]
name = "edge-1"
procedure = "p"
max_age = "26h"
[[sources]]
name = "edge-2"
procedure = "p"
max_age = "26h"
[[sources]]
name = "edge-3"
procedure = "p"
"""


def _config(name: str, server: str) -> str:
    return f"hostname {name}\n! saved at noon\ntime-server {server}\nenable secret canary-{name}\nend\n"


@pytest.fixture
def library(estate: EstateFolder) -> EstateFolder:
    """Three sources with two versions each: the same edit on two of them."""
    estate.write(_ESTATE)
    for server in ("10.20.0.1", "10.20.0.9"):
        for name in ("edge-1", "edge-2", "edge-3"):
            (estate.path / f"{name}.cfg").write_text(_config(name, "10.20.0.1" if name == "edge-3" else server))
        assert estate.run("collect").code == 0
    return estate


@pytest.mark.parametrize("example", EXAMPLES, ids=lambda text: text.count("\n"))
def test_each_example_of_the_page_runs(library: EstateFolder, example: str) -> None:
    done = subprocess.run(
        [sys.executable, "-c", example], cwd=library.path, capture_output=True, text=True, check=False
    )
    assert (done.returncode, done.stderr) == (0, "")
    assert "canary" not in done.stdout


def test_the_page_has_its_examples_and_names_every_verb() -> None:
    assert len(EXAMPLES) == 7
    for noun in _NOUNS:
        (row,) = re.findall(rf"^\| `{noun.__name__}` \|.*\n(?:\| \|.*\n)*", PAGE, re.MULTILINE)
        named = set(re.findall(r"`(\w+)`", row))
        own = {name for name in vars(noun) if not name.startswith("_")}
        assert own - _INSIDE <= named, noun


_NOUNS = (Estate, Source, Version, PushPlan, PrunePlan, Round, Copy, Ownership)
_INSIDE = {"of", "opened", "where", "only", "wanted", "present", "what", "way_back"}
_IN_DOCSTRINGS = [
    example
    for noun in _NOUNS
    for one in vars(noun).values()
    for example in re.findall(r"Example: `(.+)`", one.__doc__ or "")
]


def test_each_example_of_a_verb_runs(library: EstateFolder, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(library.path)
    assert len(_IN_DOCSTRINGS) >= 35
    with historon.open(library.path) as estate:
        for example in _IN_DOCSTRINGS:
            assert "canary" not in repr(eval(example, {"estate": estate}))  # noqa: S307 (our own)


def test_it_opens_by_file_and_folder_and_says_what_is_wrong(library: EstateFolder, tmp_path: Path) -> None:
    for path in (library.path, library.path / "historon.toml", str(library.path)):
        with historon.open(path) as opened:
            assert [source.name for source in opened.sources()] == ["edge-1", "edge-2", "edge-3"]
    with pytest.raises(EstateError):
        historon.open(tmp_path / "nowhere")
    library.write("[estate")
    with pytest.raises(EstateError):
        historon.open(library.path)


def test_it_needs_no_store_before_it_is_asked_of_it_and_is_opened_again(library: EstateFolder) -> None:
    opened = historon.open(library.path)
    assert opened.sources()
    assert opened.source("edge-1").versions()
    opened.close()
    assert opened.source("edge-1").versions()
    opened.close()
    (library.path / "store").rename(library.path / "away")
    with opened, pytest.raises(StoreError):
        opened.source("edge-1").versions()
    with historon.open(library.path) as again:
        assert any(finding.wrong for finding in again.doctor())


def test_versions_are_named_and_read_with_their_secrets_masked(library: EstateFolder) -> None:
    with historon.open(library.path) as opened:
        assert [version.number for version in opened.source("edge-1").versions()] == [1, 2]
        assert opened.version("edge-1@-1").number == 1
        version = opened.version("edge-1")
        masked = version.read()
        assert b"canary" not in masked
        assert b"[secret " in masked
        whole = version.read("running.cfg", reveal=True)
        assert whole == (library.path / "edge-1.cfg").read_bytes()
        assert b"".join(version.pieces()) == whole
        for wrong in ("edge-9", "edge-1@77"):
            with pytest.raises(UsageError):
                opened.version(wrong)
        with pytest.raises(UsageError, match="no part"):
            version.read("startup.cfg")


def test_what_cannot_be_masked_is_not_read_unless_it_is_revealed(library: EstateFolder) -> None:
    (library.path / "edge-1.cfg").write_bytes(b"\0password canary\n")
    with historon.open(library.path) as opened:
        opened.collect("edge-1")
        suspect = f"edge-1@{opened.source('edge-1').versions()[-1].number}"
        with pytest.raises(UsageError, match="binary"):
            opened.version(suspect).read()
        assert opened.version(suspect).read(reveal=True).startswith(b"\0")


def test_what_was_found_is_masked_when_the_store_is_gone_again(library: EstateFolder) -> None:
    with historon.open(library.path) as opened:
        hits = opened.find("canary").hits
    (library.path / "store").rename(library.path / "elsewhere")
    lines = [hit.line for hit in hits]
    assert lines
    assert all("[secret " in line and "canary" not in line for line in lines)


def test_differences_and_changes(library: EstateFolder) -> None:
    (library.path / "golden.cfg").write_text(_config("edge-1", "10.9.9.9"))
    with historon.open(library.path) as opened:
        found = opened.diff("edge-1")
        assert (found.before.name, found.after.name) == ("edge-1@1", "edge-1@2")
        ((change,),) = [part.changes for part in found.parts]
        assert (change.path, change.words) == ("time-server", "10.20.0.1 → 10.20.0.9")
        assert opened.diff("edge-2", "edge-2").parts == []
        golden = opened.diff(f"file:{library.path / 'golden.cfg'}", "edge-1")
        assert golden.before.version is None
        assert [change.old for part in golden.parts for change in part.changes] == ["10.9.9.9"]
        with pytest.raises(UsageError, match="no part and no path"):
            opened.diff("edge-1", only="interface nowhere")
        with pytest.raises(OutsideError):
            opened.diff("file:nowhere", "edge-1")
        (family,) = opened.changes("1d").families
        assert family.sources == ["edge-1", "edge-2"]
        assert opened.changes(datetime.now(UTC)).families == []
        with pytest.raises(UsageError, match="--since"):
            opened.changes("soon")
        odd = opened.typical()
        assert [source for source, told in odd.oddities.items() if told] == ["edge-3"]


def test_searching_and_requirements(library: EstateFolder) -> None:
    with historon.open(library.path) as opened:
        assert [hit.source for hit in opened.find("10.20.0.9").hits] == ["edge-1", "edge-2"]
        assert len(opened.find("10.20.0.1", ever=True).hits) == 3
        assert all("canary" not in hit.line for hit in opened.find("canary").hits)
        assert "canary-edge-1" in opened.find("canary", reveal=True).hits[0].line
        with pytest.raises(UsageError):
            opened.find("a", ever=True, at="1d")
        with pytest.raises(UsageError, match=r"\("):
            opened.find("(", expression=True)
        (life,) = opened.source("edge-1").trace("time-server").lives
        assert len(life.events) == 2
        states = {one.source.name: one.state for one in opened.requirements()}
        assert states == {
            "edge-1": RequirementState.MET,
            "edge-2": RequirementState.MET,
            "edge-3": RequirementState.NOT_MET,
        }
        assert opened.source("edge-1").noise().versions == 2


def test_a_round_is_on_record_and_heard_of(library: EstateFolder) -> None:
    heard: list[str] = []
    (library.path / "edge-2.cfg").unlink()
    with historon.open(library.path) as opened:
        done = opened.collect("edge-1", "edge-2", observer=lambda event: heard.append(type(event).__name__))
        assert {result.source: result.outcome for result in done.report.results} == {
            "edge-1": Outcome.UNCHANGED,
            "edge-2": Outcome.FAILED,
        }
        assert heard.count(SourceResult.__name__) == 2
        assert opened.rounds(1)[0].number == done.report.number
        assert len(opened.round(done.report.number).visits()) == 2
        assert not opened.status().well
        assert opened.unfinished() == []
        assert opened.source("edge-1").rehearse().judged is not None
        with pytest.raises(UsageError):
            opened.round(99)


def test_what_goes_is_a_plan_before_it_goes(library: EstateFolder) -> None:
    (library.path / "edge-1.cfg").write_text(_config("edge-1", "10.20.0.7"))
    with historon.open(library.path) as opened:
        opened.collect("edge-1")
        opened.version("edge-1@1").hold("first")
        assert opened.plan_prune("edge-1").removals == []
        opened.version("edge-1@1").lift_hold()
        plan = opened.plan_prune()
        assert [(one.version.source, one.version.number) for one in plan.removals] == [("edge-1", 1)]
        with pytest.raises(UsageError, match="preview"):
            opened.plan_prune(as_of=datetime.now(UTC) + timedelta(days=9)).prune()
        assert len(opened.source("edge-1").versions()) == 3
        assert plan.prune().versions == 1
        assert opened.verify().well
        with pytest.raises(UsageError, match="nothing was ever collected"):
            opened.verify("edge-9")


def test_bringing_back_and_second_places(library: EstateFolder, tmp_path: Path) -> None:
    library.write(_ESTATE + '[copies.there]\npath = "there"\nmax_lag = "1d"\n')
    with historon.open(library.path) as opened:
        restored = opened.version("edge-1@1").restore(tmp_path / "back")
        assert [file.name for file, _ in restored.files] == ["running.cfg"]
        assert (tmp_path / "back" / "running.cfg").read_text() == _config("edge-1", "10.20.0.1")
        assert opened.copy("there").update().versions == 5
        assert opened.copy("there").verify().well
        assert [one.name for one in opened.copies()] == ["there"]
        with pytest.raises(UsageError, match='no copy "here"'):
            opened.copy("here")
        assert opened.agenda(timedelta(days=1)) == []


def test_it_works_inside_a_running_event_loop(library: EstateFolder) -> None:
    async def inside() -> list[Outcome]:
        with historon.open(library.path) as opened:
            first = opened.collect("edge-1").report.results  # as in a notebook
            second = (await opened.collect_async("edge-2")).report.results
            assert opened.source("edge-1").rehearse().judged is not None
            assert (await opened.source("edge-1").rehearse_async()).judged is not None
            return [one.outcome for one in (*first, *second)]

    assert asyncio.run(inside()) == [Outcome.UNCHANGED, Outcome.UNCHANGED]


def test_labels_and_instants_are_taken_as_python_has_them(library: EstateFolder) -> None:
    library.write(_ESTATE.replace('name = "edge-2"', 'name = "edge-2"\nlabels = { site = "mole", role = "edge" }'))
    with historon.open(library.path) as opened:
        assert [one.name for one in opened.sources(where={"site": "mole", "role": "edge"})] == ["edge-2"]
        assert [one.name for one in opened.sources(where=["site=mole"])] == ["edge-2"]
        with pytest.raises(UsageError, match="sit"):
            opened.sources(where={"sit": "mole"})
        noon = datetime(2026, 6, 14, 12, 0)
        assert opened.moment(noon) == opened.moment("2026-06-14T12:00") == datetime(2026, 6, 14, 10, 0, tzinfo=UTC)
        assert opened.moment(noon.date()) == opened.moment("2026-06-14") == datetime(2026, 6, 13, 22, 0, tzinfo=UTC)
        for since in ("1d", timedelta(days=1), datetime.now() - timedelta(days=1), datetime.now(UTC).date()):
            assert len(opened.changes(since, where={"site": "mole"}).families) == 1, since


def test_a_clock_of_ones_own(library: EstateFolder) -> None:
    later = datetime.now(UTC) + timedelta(days=3)
    with historon.open(library.path, clock=lambda: later) as opened:
        assert {one.source.name for one in opened.status().sources if not one.well} == {"edge-1", "edge-2", "edge-3"}
        assert opened.version("edge-1@2d").number == 2


def test_the_version_is_known_without_loading_the_house() -> None:
    script = "import sys, historon; print(historon.__version__, 'historon.api' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.split() == [historon.__version__, "False"]
    with pytest.raises(AttributeError):
        historon.nothing  # noqa: B018
