"""The language of steps, over the transport that needs no server: values, requirements, waiting, pausing, parts."""

import json
import os
import signal
import subprocess
from pathlib import Path

import pytest

from historon.standins.purser import Purser, PurserFault
from tests.conftest import PROGRAM, EstateFolder, collect, describe_estate, parts_of
from tests.waiting import wait_for

_SITES = {"sites": [{"id": "a", "made": "2026-01-02", "open": True}, {"id": "b", "made": "2026-03-01", "open": False}]}


def _local(estate: EstateFolder, steps: str, procedure: str = "", **also: str) -> EstateFolder:
    (estate.path / "sites.json").write_text(json.dumps(_SITES))
    (estate.path / "list.xml").write_text('<l><v n="1">9.4</v><v n="2">10.1</v></l>')
    return describe_estate(estate, over="local", steps=steps, procedure=procedure, **also)


def test_what_is_learnt_fills_later_steps(estate: EstateFolder) -> None:
    _local(
        estate,
        """
        { send = ["cat", "sites.json"], learn = { first = "json:/sites/0/id", whole = "json:/sites/1" } },
        { send = ["cat", "list.xml"], learn = { version = "xpath://v[@n=2]", versions = "xpaths://v" } },
        { send = ["echo", "id 17, id 17"], learn = { id = 'pattern:id (\\d+)', ids = 'patterns:id (\\d+)' } },
        { pick = "last", from = "ids", newest = "text" },
        { keep = ["echo", "{first} {whole.made} {version} {id} {last} {whole.open}"], as = "{first}.txt" },
        { each = "v", from = "versions", steps = [{ keep = ["echo", "{v}"], as = "v/{v}" }] },
    """.replace("\\\\", "\\"),
    )
    result = collect(estate)
    assert result.code == 0, result.said
    assert parts_of(estate) == {"a.txt": b"a 2026-03-01 10.1 17 17 false\n", "v/9.4": b"9.4\n", "v/10.1": b"10.1\n"}


def test_pick_and_each_choose_by_fields(estate: EstateFolder) -> None:
    _local(
        estate,
        """
        { send = ["cat", "sites.json"], learn = { sites = "json:/sites" } },
        { pick = "new", from = "sites", newest = "made" },
        { pick = "opened", from = "sites", where = { open = "true" } },
        { keep = ["echo", "{new.id} {opened.id}"], as = "picked" },
        { each = "site", from = "sites", where = { id = "b" }, steps = [{ keep = ["echo", "{site.made}"], as = "{site.id}" }] },
    """,
    )
    assert collect(estate).code == 0
    assert parts_of(estate) == {"picked": b"b a\n", "b": b"2026-03-01\n"}


@pytest.mark.parametrize(
    ("steps", "told"),
    [
        ('{ send = ["echo", "{}"], learn = { x = "json:/a/b" } }', "the answer has no json:/a/b"),
        ('{ send = ["echo", "plain"], learn = { x = "json:/a" } }', "the answer is not JSON"),
        ('{ send = ["echo", "x"], learn = { x = "pattern:y+" } }', "the answer has no pattern:y+"),
        (
            '{ send = ["echo", "id 17, id 18"], learn = { x = "pattern:id ([0-9]+)" } }',
            "pattern:id ([0-9]+) finds different values: narrow it, or learn all with patterns:id ([0-9]+) and pick one",
        ),
        (
            '{ send = ["cat", "sites.json"], learn = { l = "json:/sites" } }, { pick = "p", from = "l", where = { id = "z" } }',
            "nothing to pick: no item of l has id z",
        ),
        (
            '{ send = ["cat", "sites.json"], learn = { l = "json:/sites" } }, { send = ["echo", "{l}"] }',
            "l is a list or a table, not a text",
        ),
        (
            '{ send = ["cat", "sites.json"], learn = { l = "json:/sites/0" } }, { send = ["echo", "{l.nix}"] }',
            "l has no nix",
        ),
        ('{ send = ["echo", "ok"], check = { holds = ["done"] } }', "the answer lacks done"),
        (
            '{ send = ["echo", "status: failed 7"], check = { lacks = ["failed \\\\d"] } }',
            'the answer contains "failed 7"',
        ),
        (
            '{ send = ["cat", "sites.json"], check = { value = { "json:/sites/1/open" = "true" } } }',
            'json:/sites/1/open is "false", not true',
        ),
        ('{ send = ["false"], check = { exit_code = 2 } }', "the command ended with exit code 1"),
        ('{ send = ["echo", "Unknown command: x"] }', 'the answer is "Unknown command: x"'),
        (
            '{ await = ["cat", "state"], until = { holds = ["ready"] }, within = "200ms", every = "50ms", word = "the archive" }',
            "the archive did not come within 200ms: the answer lacks ready",
        ),
        ('{ clock = ["echo", "noon"], format = "%H:%M" }', "the answer has no time of the form %H:%M"),
        (
            '{ pull = "list.xml", checksum = "00000000000000000000000000000000" }',
            "is incomplete: its md5 is not 0000",
        ),
        ('{ pull = "back/up-*.cfg", newest = "time" }', "no file matches"),
    ],
)
def test_what_is_not_as_expected_says_so(estate: EstateFolder, steps: str, told: str) -> None:
    _local(estate, steps + ', { keep = ["echo", "x"], as = "x" }')
    (estate.path / "state").write_text("busy\n")
    result = collect(estate)
    assert (result.code, told in result.said) == (3, True), result.said
    assert "  where    step 1 of" in result.said or "  where    step 2 of" in result.said


def test_expectations_allow_what_would_else_be_wrong(estate: EstateFolder) -> None:
    _local(
        estate,
        '{ keep = ["sh", "-c", "echo well; exit 4"], as = "x", check = { exit_code = [0, 4], holds = ["well"] } }',
    )
    assert collect(estate).code == 0


def test_waiting_goes_on_until_the_condition_holds_or_as_configured(estate: EstateFolder) -> None:
    script = "n=$(cat n); n=$((n+1)); echo $n > n; [ $n -ge 3 ] && echo ready $n || echo busy"
    (estate.path / "ask.sh").write_text(script)
    (estate.path / "n").write_text("0")
    waiting = '{ await = ["sh", "ask.sh"], until = { holds = ["ready"] }, every = "20ms", within = "20s", learn = { n = "pattern:ready (.+)" } }'
    _local(estate, waiting + ', { keep = ["echo", "{n}"], as = "n" }')
    assert collect(estate).code == 0
    assert parts_of(estate) == {"n": b"3\n"}
    for or_else, told, code in (("skip", "skipped", 0), ("continue", "continued without idleness", 0)):
        busy = f'{{ await = ["echo", "busy"], until = {{ holds = ["idle"] }}, every = "20ms", within = "100ms", word = "idleness", or_else = "{or_else}" }}'
        result = collect(_local(estate, busy + ', { keep = ["echo", "3"], as = "n" }'))
        assert (result.code, told in result.said) == (code, True), result.said
    assert "unchanged" in result.out


def test_a_size_that_stands_still_ends_the_waiting(estate: EstateFolder) -> None:
    (estate.path / "grow.sh").write_text("n=$(cat n); [ $n -lt 5 ] && n=$((n+1)); echo $n > n; cat n")
    (estate.path / "n").write_text("0")
    _local(estate, '{ await = ["sh", "grow.sh"], until = { still = "80ms" }, every = "30ms" }, { pull = "n" }')
    assert collect(estate).code == 0
    assert parts_of(estate) == {"n": b"5\n"}


def test_variants_are_chosen_by_what_was_learnt(estate: EstateFolder) -> None:
    steps = """
        { send = ["cat", "version"], learn = { version = 'pattern:version (\\S+)' } },
        { keep = ["echo", "old way"], as = "cfg", when = { version = '^[34]\\.' } },
        { keep = ["echo", "new way"], as = "cfg", when = { version = '^5\\.' } },
    """
    for version, code, told in (
        ("4.2", 0, "new"),
        ("5.0", 0, "changed"),
        ("6.1", 3, 'no step with a part fits: version is "6.1"'),
    ):
        _local(estate, steps.replace("\\\\", "\\"))
        (estate.path / "version").write_text(f"OS version {version}\n")
        result = collect(estate)
        assert (result.code, told in result.said) == (code, True), result.said
    assert parts_of(estate) == {"cfg": b"new way\n"}


def test_parts_may_be_optional_follow_another_or_be_kept_for_the_record(estate: EstateFolder) -> None:
    _local(
        estate,
        """
        { pull = "text" },
        { pull = "binary", follows = "text" },
        { pull = "table", record_only = true },
        { pull = "maybe", optional = true },
    """,
    )

    def now(**files: str) -> str:
        for name, content in files.items():
            (estate.path / name).write_text(content)
        return collect(estate).said.splitlines()[0]

    assert "maybe was left out: there is no" in now(text="1\n", binary="x", table="t1\n")
    assert "unchanged" in now(binary="other bytes, same configuration")
    assert parts_of(estate)["binary"] == b"x"
    assert "unchanged" in now(table="t2\n")
    assert parts_of(estate)["table"] == b"t2\n", "kept for the record, yet no change"
    assert "changed    @3" in now(text="2\n", binary="y")
    assert parts_of(estate)["binary"] == b"y"
    assert "changed" in now(maybe="here now")


def test_includes_excludes_and_limits_of_a_tree(estate: EstateFolder) -> None:
    tree = estate.path / "etc"
    for name in ("app.conf", "app.log", "cache/deep/x.conf", "sub/b.conf"):
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_text(name)
    _local(estate, '{ pull = "etc", include = ["*.conf"], exclude = ["cache/*"], max_size = "1kB" }')
    result = collect(estate)
    assert "2 excluded by include and exclude" in result.out
    assert parts_of(estate).keys() == {"etc/app.conf", "etc/sub/b.conf", "etc.tree"}
    _local(estate, '{ pull = "etc", max_size = "9B" }')
    assert "makes it exceed 9 B" in collect(estate).err


def test_the_newest_of_a_glob(estate: EstateFolder) -> None:
    for number, name in enumerate(("up-2.cfg", "up-1.cfg", "other")):
        (estate.path / name).write_text(name)
        os.utime(estate.path / name, (1_700_000_000 + number, 1_700_000_000 + number))
    _local(estate, '{ pull = "up-*.cfg", newest = "time", as = "t" }, { pull = "up-*.cfg", newest = "name", as = "n" }')
    assert collect(estate).code == 0
    assert parts_of(estate) == {"t": b"up-1.cfg", "n": b"up-2.cfg"}


def test_what_this_machine_must_have(estate: EstateFolder) -> None:
    for needs, told in (
        ('needs = { mount = "nowhere" }', "nothing is mounted at"),
        ('needs = { programs = ["no-such-program"] }', "there is no program no-such-program"),
        ('needs = { free = "900000GB" }', "fewer than the 900000 GB that it needs"),
    ):
        result = collect(_local(estate, '{ pull = "sites.json" }', needs))
        assert (result.code, told in result.err) == (3, True), result.said
    assert (
        collect(
            _local(estate, '{ pull = "sites.json" }', 'needs = { mount = "/", free = "1kB", programs = ["sh"] }')
        ).code
        == 0
    )


def test_a_clock_that_differs_is_remarked(estate: EstateFolder) -> None:
    _local(
        estate,
        '{ clock = ["date", "-u", "+now %Y-%m-%d %H:%M:%S +0000", "-d", "-3 hours"], format = "%Y-%m-%d %H:%M:%S %z" }, { pull = "sites.json" }',
    )
    result = collect(estate)
    assert "its clock is 3h behind ours" in result.out or "its clock is 2h 59m behind ours" in result.out
    assert result.code == 0


# Pausing

_PAUSE = """
{ pause = ["purser/purserctl", "pause"], resume = ["purser/purserctl", "resume"],
  probe = ["purser/purserctl", "state"], until = { holds = ["is running"] }, every = "20ms", within = "500ms",
  steps = [{ keep = ["purser/purserctl", "state"], as = "state" }, { pull = "purser/data", as = "data" } INNER] },
"""


@pytest.fixture
def purser(estate: EstateFolder) -> Purser:
    made = Purser(estate.path / "purser")
    made.write({"a.conf": "one\n"})
    return made


def _one_line(text: str, inner: str = "") -> str:
    return " ".join(text.replace("INNER", inner).split())


def test_a_service_is_paused_and_resumed(estate: EstateFolder, purser: Purser) -> None:
    _local(estate, _one_line(_PAUSE))
    result = collect(estate)
    assert result.code == 0, result.said
    assert parts_of(estate)["state"] == b"purser is paused\n"
    assert purser.running


def test_it_is_resumed_when_a_step_fails_or_runs_out_of_time(estate: EstateFolder, purser: Purser) -> None:
    for inner, procedure in (
        (', { send = ["false"] }', ""),
        (', { send = ["sleep", "60"], deadline = "200ms" }', ""),
        (', { send = ["sleep", "60"] }', 'deadline = "1s"'),
    ):
        _local(estate, _one_line(_PAUSE, inner), procedure)
        result = collect(estate)
        assert result.code == 3
        assert "NOT RESUMED" not in result.said
        assert purser.running, inner


@pytest.mark.parametrize("by", [signal.SIGINT, signal.SIGTERM])
def test_it_is_resumed_when_the_round_is_interrupted(estate: EstateFolder, purser: Purser, by: signal.Signals) -> None:
    _local(estate, _one_line(_PAUSE, ', { send = ["sleep", "60"] }') + '{ tidy = ["touch", "tidied"] }')
    process = subprocess.Popen(
        [PROGRAM, "collect"],
        cwd=estate.path,
        env={**os.environ, "PW": "x", "UP": "y"},
        stdout=subprocess.PIPE,
        text=True,
    )
    wait_for(lambda: not purser.running)
    process.send_signal(by)
    out = process.communicate(timeout=20)[0]
    assert process.returncode == 130, out
    assert purser.running
    assert (estate.path / "tidied").exists()
    assert "skipped" in out


@pytest.mark.parametrize(
    ("fault", "why"),
    [
        (PurserFault.STUCK, "the command ended with exit code 1"),
        (PurserFault.DEAD, "its answer was not right within 500ms"),
    ],
)
def test_one_that_stays_paused_is_the_loudest_failure(
    estate: EstateFolder, purser: Purser, fault: PurserFault, why: str
) -> None:
    _local(estate, _one_line(_PAUSE))
    purser.break_down(fault)
    result = collect(estate)
    assert result.code == 3
    assert "SERVICE NOT RESUMED: 3 tries failed" in result.err
    assert why in result.err
    assert "resume it by hand, now: purser/purserctl resume" in result.err
    data = collect(estate, "--json").rows
    assert data[0]["failure"]["kind"] == "not resumed"


def test_it_is_resumed_when_pausing_itself_fails(estate: EstateFolder, purser: Purser) -> None:
    _local(estate, _one_line(_PAUSE))
    purser.break_down(PurserFault.BUSY)
    (purser.folder / "state").write_text("paused\n")
    result = collect(estate)
    assert "3 transfers are running" in result.err
    assert purser.running


def test_each_turn_tidies_up_after_itself(estate: EstateFolder) -> None:
    _local(
        estate,
        """
        { send = ["echo", "1 2"], learn = { ids = 'patterns:[0-9]' } },
        { each = "id", from = "ids", steps = [{ send = ["touch", "made-{id}"] }, { keep = ["ls"], as = "{id}" }, { tidy = ["rm", "made-{id}"] }] },
    """,
    )
    assert collect(estate).code == 0
    assert b"made-1" in parts_of(estate)["1"]
    assert b"made-1" not in parts_of(estate)["2"]
    assert not list(estate.path.glob("made-*"))


def test_it_is_left_alone_while_it_is_busy(estate: EstateFolder, purser: Purser) -> None:
    waiting = '{ await = ["purser/purserctl", "idle"], until = { holds = ["^idle"] }, every = "20ms", within = "100ms", word = "an idle moment", or_else = "skip" },'
    _local(estate, waiting + _one_line(_PAUSE))
    purser.break_down(PurserFault.BUSY)
    result = collect(estate)
    assert result.code == 0
    assert (
        "skipped    an idle moment did not come within 100ms" in " ".join(result.out.split("  ")).replace("     ", " ")
        or "an idle moment did not come within 100ms" in result.out
    )


def test_rehearsing_shows_all_of_it_and_stores_nothing(estate: EstateFolder, purser: Purser) -> None:
    _local(estate, _one_line(_PAUSE))
    result = estate.run("rehearse", "s", PW="x", UP="y")
    assert result.code == 0, result.said
    assert ", resumed" in result.out
    assert "a round would record: new" in result.out
    assert estate.store().versions("s") == []


# Mistakes in the estate file


@pytest.mark.parametrize(
    ("steps", "procedure", "told"),
    [
        (
            '{ send = ["x"], steps = [] , until = { holds = ["x"] } }',
            "",
            "send takes no until (it belongs to await, pause)",
        ),
        ('{ pause = ["x"], steps = [{ pull = "x" }] }', "", "pause needs a command that undoes it (add resume)"),
        ('{ pause = ["x"], resume = ["y"] }, { pull = "x" }', "", "pause needs steps to take while it is paused"),
        ('{ pause = ["x"], resume = ["y"], probe = ["z"], steps = [{ pull = "x" }] }', "", "probe needs a condition"),
        ('{ await = ["x"] }, { pull = "x" }', "", "await needs a condition"),
        ('{ each = "x", steps = [{ pull = "x" }] }', "", "each needs a list that was learnt"),
        ('{ each = "x", from = "nix", steps = [{ pull = "{x}" }] }', "", "there is no value {nix}"),
        ('{ send = ["x"], learn = { a = "jason:/x" } }, { pull = "x" }', "", "not a place in an answer"),
        (
            '{ send = ["x"], learn = { a = "json:x" } }, { pull = "x" }',
            "",
            'a JSON Pointer begins with a slash (write "json:/x")',
        ),
        ('{ send = ["x"], learn = { a = "xpath://[" } }, { pull = "x" }', "", "not an XPath expression"),
        ('{ send = ["x"], check = {} }, { pull = "x" }', "", "checks nothing"),
        (
            '{ send = ["x"], json = { a = 1 } }, { pull = "x" }',
            "",
            "over local a step has no json (it belongs to https)",
        ),
        ('{ pull = "x" }', 'auth = "basic"', "over local has no auth (it belongs to https)"),
        ('{ pull = "x", newest = "size" }', "", 'newest = "time" or newest = "name"'),
        ('{ pull = "x", follows = "y" }', "", 'follows "y", which no step keeps'),
        ('{ send = ["x", "{password}"] }, { pull = "x" }', "", "a secret would be visible in the process list"),
        ('{ pull = "{label.nix}" }', "", "has no label.nix"),
        ('{ pull = "x" }', 'extends = "nothing"', 'there is no "nothing"'),
        ('{ pull = "x" }', 'extends = "p"', "extends itself in a circle"),
    ],
)
def test_mistakes_are_told_when_the_file_is_read(estate: EstateFolder, steps: str, procedure: str, told: str) -> None:
    result = _local(estate, steps, procedure, source='credentials = "c"').run("status")
    assert (result.code, told in result.err) == (4, True), result.err


def test_procedures_in_files_extend_one_another(estate: EstateFolder) -> None:
    folder = estate.path / "procedures"
    folder.mkdir()
    (folder / "base.toml").write_text(
        'over = "local"\nvalues = { what = "one", more = "m" }\nnoise = ["^#"]\nsteps = [{ keep = ["echo", "{what} {more}"], as = "x" }]\n'
    )
    (folder / "child.toml").write_text('extends = "base"\nvalues = { what = "two" }\nnoise = ["^;"]\n')
    estate.write(
        '[estate]\nname = "T"\nprocedures_from = "procedures"\n[[sources]]\nname = "s"\nprocedure = "child"\nvalues = { more = "mine" }\n'
    )
    assert collect(estate).code == 0
    assert parts_of(estate) == {"x": b"two mine\n"}
    (folder / "child.toml").write_text('extends = "base"\nsteps = [{ keep = ["echo"] }]\n')
    result = estate.run("status")
    assert "procedures/child.toml:2 steps[1]: keep needs a name" in result.err
    (folder / "child.toml").write_text("extends = \n")
    assert "procedures/child.toml:1" in estate.run("status").err


def test_a_shipped_procedure_is_used_by_its_name(estate: EstateFolder, tmp_path: Path) -> None:
    (tmp_path / "there").mkdir()
    (tmp_path / "there" / "f").write_text("x")
    estate.write(
        f'[estate]\nname = "T"\n[[sources]]\nname = "s"\nprocedure = "local-tree"\nvalues = {{ path = "{tmp_path}/there" }}\n'
    )
    result = collect(estate)
    assert result.code == 0, result.said
    assert "there/f" in parts_of(estate)
