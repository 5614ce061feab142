"""Bringing a version back to its source: shown first, confirmed, done once, and looked at again."""

import email
import email.policy
import json
import os
import random
import re
import shutil
import signal
from collections.abc import Callable, Iterator
from pathlib import Path

import pexpect
import pytest

from historon.estate import Lines
from historon.restore import lines_between
from historon.standins.background import Background
from historon.standins.brackwater_texts import router_config
from historon.standins.capstan import Capstan, Fault
from historon.standins.capstan_settings import CapstanSettings
from historon.standins.thole import Thole, TholeFault
from historon.standins.tidewall import Tidewall
from historon.standins.web import Reply, Request, WebServer
from historon.store import PUSHING
from tests.conftest import (
    ELEVATION,
    FILES_ESTATE,
    PASSWORD,
    PROGRAM,
    EstateFolder,
    Result,
    collect,
    describe_estate,
)
from tests.openssh import describe_source, running_server
from tests.peers import needs

# Each route once, as routers have them.
CONFIG = router_config("office-edge-1", 1).replace("route 10.54.0.0/16 via 10.20.1.2\n", "", 2)
PUSH = """push = [
  { send = "configure" },
  { put = "lines", part = "active.cfg" },
  { send = "end" },
  { send = "save" },
]
errors = ['^(Unknown|Error|There is no)']
secret = ['monitor community (\\S+)']
"""


class Edge:
    """A router whose settings change, by hand or by a push; `noise` goes on in each export."""

    def __init__(self) -> None:
        self.text = CONFIG
        self.count = 0

    def config(self) -> str:
        self.count += 1
        return re.sub(r"(?m)^! saved at .*$", f"! saved at {self.count}", self.text)

    def save(self, text: str) -> None:
        self.text = text

    def edit(self, old: str, new: str) -> None:
        assert old in self.text
        self.text = self.text.replace(old, new, 1)


@pytest.fixture
def edge() -> Edge:
    return Edge()


@pytest.fixture
def router(background: Background, edge: Edge) -> Iterator[Capstan]:
    device = Capstan("t", edge.config, save=edge.save)
    background.run(device.start())
    yield device
    background.run(device.stop())


@pytest.fixture
def pushable(router_estate: Callable[..., EstateFolder], edge: Edge) -> EstateFolder:
    """Two versions: as it was, and with a port renamed, an entry and a time server more, and a route less."""
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    edge.edit("  description berth 3 ticket hall", "  description berth 3 north door")
    edge.edit("  deny any any", "  permit any 10.20.30.0/24\n  deny any any")
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.10\ntime-server 10.20.0.11\n")
    edge.edit("route 10.58.0.0/16 via 10.20.1.2\n", "")
    assert estate.run("collect").code == 0
    return estate


def _digest(result: Result) -> str:
    found = re.search(r"digest of this change: (\w+)", result.out)
    assert found, result.said
    return found[1]


def _saying(text: str) -> list[str | None]:
    """What lines say: all of them what stands in them, but for the clock."""
    return [None if line.startswith("! saved") else line for line in text.split("\n")]


# ---- over a command line ---------------------------------------------------------------------------------------------


def test_a_router_is_brought_back_and_the_next_export_shows_it(pushable: EstateFolder, edge: Edge) -> None:
    before, wanted = edge.text, CONFIG
    shown = pushable.run("push", "t@1")
    assert shown.code == 1, shown.said
    for line in ("-   permit any 10.20.30.0/24", "+ route 10.58.0.0/16", "- time-server 10.20.0.11"):
        assert line in shown.out, shown.out
    assert "commands will be entered, exactly these:" in shown.out
    assert "nothing was pushed; to push: --confirm" in shown.out
    assert edge.text == before, "nothing is done without being asked"
    done = pushable.run("push", "t@1", "--confirm", _digest(shown))
    assert done.code == 0, done.said
    assert "t now matches t@1 (noise ignored)" in done.out
    assert "to go back: historon push t@" in done.out
    assert edge.text.splitlines()[2:] == wanted.splitlines()[2:], "line by line, but for the clock"
    assert pushable.run("diff", "t@1", "t").code == 0
    again = pushable.run("push", "t@1")
    assert (again.code, "(noise ignored): nothing to push" in again.out) == (0, True)


def test_a_change_that_is_another_one_now_is_not_made(pushable: EstateFolder, edge: Edge) -> None:
    digest = _digest(pushable.run("push", "t@1"))
    edge.edit("time-server 10.20.0.9\n", "time-server 10.20.0.99\n")
    before = edge.text
    refused = pushable.run("push", "t@1", "--confirm", digest)
    assert refused.code == 2
    assert "nothing was pushed" in refused.err
    assert edge.text == before


def test_what_it_holds_is_told_when_it_refuses_in_the_middle(
    pushable: EstateFolder, edge: Edge, router: Capstan
) -> None:
    digest = _digest(pushable.run("push", "t@1"))
    router.fault = Fault.STUBBORN
    before = edge.text
    failed = pushable.run("push", "t@1", "--confirm", digest)
    assert failed.code == 6, failed.said
    assert re.search(r"THE PUSH FAILED: .*line 3 of \d+, .*: the answer is \"Error: not now\"", failed.err)
    assert "t does NOT match t@1. Still different" in failed.out
    assert "to go back: historon push t@" in failed.out
    assert edge.text == before, "it was never saved"
    router.fault = None
    assert pushable.run("push", "t@1", "--confirm", digest).code == 0


def test_a_secret_in_a_line_that_is_refused_is_not_shown(pushable: EstateFolder, edge: Edge, router: Capstan) -> None:
    secret = re.search(r"tide-\d+", edge.text)
    assert secret
    edge.edit(secret[0], "another-1789")
    digest = _digest(pushable.run("push", "t@1"))
    take = CapstanSettings.take

    def refusing(self: CapstanSettings, line: str) -> str:
        return "Error: not this one" if line.startswith("monitor") else take(self, line)

    CapstanSettings.take = refusing  # type: ignore[method-assign]
    try:
        failed = pushable.run("push", "t@1", "--confirm", digest)
    finally:
        CapstanSettings.take = take  # type: ignore[method-assign]
    assert "monitor community [secret " in failed.err
    assert "Error: not this one" in failed.err
    assert secret[0] not in failed.said
    assert "another-1789" not in failed.said


def test_a_device_that_only_says_that_it_has_it_is_found_out(
    pushable: EstateFolder, edge: Edge, router: Capstan
) -> None:
    digest = _digest(pushable.run("push", "t@1"))
    router.fault = Fault.FORGETFUL
    done = pushable.run("push", "t@1", "--confirm", digest)
    assert done.code == 1, done.said
    assert "t does NOT match t@1" in done.out


def test_a_device_that_is_gone_afterwards_is_not_known(
    pushable: EstateFolder, edge: Edge, router: Capstan, background: Background
) -> None:
    digest = _digest(pushable.run("push", "t@1"))
    save = edge.save

    def save_and_leave(text: str) -> None:
        save(text)
        router.fault = Fault.REFUSES

    router.save = save_and_leave
    done = pushable.run("push", "t@1", "--confirm", digest)
    assert done.code == 6, done.said
    assert "the state of t is UNKNOWN: t could not be collected" in done.err
    told = pushable.run("status").err
    assert "PUSH INTERRUPTED: t" in told
    assert pushable.run("status").code == 1
    kinds = {(one["kind"], one["source"]) for one in pushable.run("status", "--json").data["conditions"]}
    assert ("push-failed", "t") in kinds
    router.fault = None
    assert pushable.run("collect").code == 0
    assert "PUSH" not in pushable.run("status").err


def test_somebody_who_changed_it_while_one_was_asked_is_not_run_over(pushable: EstateFolder, edge: Edge) -> None:
    asked = pexpect.spawn(str(PROGRAM), ["push", "t@1"], cwd=pushable.path, encoding="utf-8", timeout=60)
    asked.expect("Type its name to confirm")
    edge.edit("time-server 10.20.0.9\n", "time-server 10.20.0.99\n")
    asked.sendline("t")
    asked.expect("t changed in the meantime: it is t@")
    asked.expect(pexpect.EOF)
    asked.close()
    assert asked.exitstatus == 6
    assert "time-server 10.20.0.99" in edge.text


def test_the_name_has_to_be_typed(pushable: EstateFolder, edge: Edge) -> None:
    before = edge.text
    for typed, code in (("y", 1), ("t", 0)):
        asked = pexpect.spawn(str(PROGRAM), ["push", "t@1"], cwd=pushable.path, encoding="utf-8", timeout=60)
        asked.expect("This changes t. Type its name to confirm")
        assert edge.text == before
        asked.sendline(typed)
        asked.expect(pexpect.EOF)
        asked.close()
        assert asked.exitstatus == code
    assert edge.text != before


def test_a_push_whose_program_was_killed_is_told_first(pushable: EstateFolder, edge: Edge, router: Capstan) -> None:
    digest = _digest(pushable.run("push", "t@1"))
    running = pexpect.spawn(str(PROGRAM), ["push", "t@1", "--confirm", digest], cwd=pushable.path, timeout=60)
    router.save = lambda _text: os.kill(running.pid or 0, signal.SIGKILL)
    running.expect(pexpect.EOF)
    running.close()
    assert running.signalstatus == signal.SIGKILL
    told = pushable.run("status").err
    assert "PUSH INTERRUPTED: t may be between two versions: Historon ended while it pushed t@1" in told
    assert "to go back: historon push t@" in told
    router.save = edge.save
    assert pushable.run("push", "t@1", "--confirm", digest).code == 0
    assert "PUSH" not in pushable.run("status").err


def test_machines_can_read_it(pushable: EstateFolder) -> None:
    plan = pushable.run("push", "t@1", "--json")
    assert (plan.code, plan.data["pushed"], plan.data["well"]) == (1, False, None)
    done = pushable.run("push", "t@1", "--json", "--confirm", plan.data["digest"])
    assert (done.code, done.data["pushed"], done.data["well"], done.data["left"]) == (0, True, True, [])


def test_who_hears_of_changes_hears_of_it(pushable: EstateFolder, router: Capstan) -> None:
    text = (pushable.path / "historon.toml").read_text()
    pushable.write(text + '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\ntell = "changes"\n')
    pushable.run("collect")
    digest = _digest(pushable.run("push", "t@1"))
    pushable.run("push", "t@1", "--confirm", digest)
    events = [event for line in (pushable.path / "told.jsonl").read_text().splitlines() for event in _events(line)]
    assert "pushed" in events, (pushable.path / "told.jsonl").read_text()


def _events(line: str) -> list[str]:
    return re.findall(r'"(?:kind|event)": ?"([a-z-]+)"', line)


def test_what_cannot_be_pushed_is_said(pushable: EstateFolder, router_estate: Callable[..., EstateFolder]) -> None:
    assert "no part" in pushable.run("push", "t@1", "--only", "nothing.cfg").err
    assert pushable.run("push", "t@99").code == 2
    router_estate()
    refused = pushable.run("push", "t@1")
    assert refused.code == 2
    assert "the procedure capstan has no push steps" in refused.err


@pytest.mark.parametrize(
    ("procedure", "said"),
    [
        ('push = [{ put = "running", part = "active.cfg" }]', 'write put = "lines"'),
        ('push = [{ keep = "x", as = "y" }]', "push stores no part"),
        ('push = [{ put = "lines" }]', "part"),
        ('push_confirm = [{ send = "x" }]', "push_confirm confirms nothing"),
        ("lines = { negate = [] }", "negate"),
    ],
)
def test_wrong_steps_are_told(router_estate: Callable[..., EstateFolder], procedure: str, said: str) -> None:
    result = router_estate(procedure=procedure).run("sources")
    assert result.code == 4
    assert said in result.err


# ---- lines -----------------------------------------------------------------------------------------------------------


def test_lines_for_somebody_to_paste(pushable: EstateFolder) -> None:
    shown = pushable.run("push", "t@1", "--lines")
    assert shown.code == 0, shown.said
    assert "interface port-3\n  description berth 3 ticket hall\n  exit\n" in shown.out
    assert "access-list quay-in\n  no permit any 10.20.30.0/24\n  exit\n" in shown.out
    assert shown.out.rstrip().endswith("no time-server 10.20.0.11"), "what goes comes last"
    assert pushable.run("push", "t@2", "--lines").out == ""


def test_secrets_in_lines_are_shown_only_when_that_is_asked(pushable: EstateFolder, edge: Edge) -> None:
    edge.edit("monitor community tide-", "monitor community canary-")
    assert pushable.run("collect").code == 0
    hidden = pushable.run("push", "t@1", "--lines")
    assert "monitor community [secret " in hidden.out
    assert "--reveal shows them" in hidden.err
    assert re.search(r"monitor community tide-\d+", pushable.run("push", "t@1", "--lines", "--reveal").out)


def test_lines_are_for_the_files_of_a_folder_and_not_for_its_record(estate: EstateFolder) -> None:
    estate.write(FILES_ESTATE)
    file = estate.path / "data" / "edge.cfg"
    file.parent.mkdir()
    file.write_text("hostname t\ntime-server 10.20.0.10\n")
    assert estate.run("collect").code == 0
    file.write_text("hostname t\n")
    file.chmod(0o600)  # so that the record of the folder is another too
    assert estate.run("collect").code == 0
    shown = estate.run("push", "files@1", "--lines")
    assert (shown.code, shown.out) == (0, "time-server 10.20.0.10\n"), shown.said


@pytest.mark.parametrize(
    "line", [b"h\xf8yde 3", b"a\rerase all", b"a\x03b", b"a\x0bb", "a\u2028b".encode(), b"a\x1b[Ab"]
)
def test_what_typing_would_alter_is_no_line(estate: EstateFolder, line: bytes) -> None:
    estate.write(FILES_ESTATE)
    (estate.path / "data").write_bytes(b"hostname t\n" + line + b"\nend\n")
    assert estate.run("collect").code == 0
    (estate.path / "data").write_bytes(b"hostname t\r\n\tother\r\nend\r\n")
    assert estate.run("collect").code == 0
    refused = estate.run("push", "files@1", "--lines")
    assert (refused.code, refused.out) == (2, "")
    assert "data is not a text of lines that can be entered" in refused.err


def _typed(text: str, lines: list[str]) -> str:
    settings = CapstanSettings(text)
    for line in lines:
        if line.strip() == "exit":
            settings.leave()
        else:
            assert settings.take(line.strip()) == "", line
    return str(settings)


def _changed(rng: random.Random, text: str) -> str:
    """Some lines less, some more, some others, some moved: in sections, in lists, and between them."""
    lines = text.splitlines()
    for _ in range(rng.randrange(1, 8)):
        at = rng.randrange(3, len(lines) - 1)
        line = lines[at]
        if line.startswith("  permit"):
            match rng.randrange(3):
                case 0:
                    del lines[at]
                case 1:
                    lines.insert(at, f"  permit 198.51.100.{rng.randrange(250)} any")
                case 2 if lines[at - 1].startswith("  permit"):
                    lines[at - 1], lines[at] = line, lines[at - 1]
        elif line.startswith("  description"):
            lines[at] = f"  description {rng.choice(['quay', 'ramp'])} {rng.randrange(9)}"
        elif line.startswith(("route", "time-server")):
            lines[at : at + rng.randrange(2)] = [f"{line.split()[0]} 10.{rng.randrange(200)}.0.0/16 via 10.20.1.2"]
        elif line in ("  shutdown", "  no shutdown"):
            lines[at] = "  no shutdown" if line == "  shutdown" else "  shutdown"
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize("seed", range(60))
def test_typing_the_lines_leads_to_the_other_text(seed: int) -> None:
    """Checked by the router's own way of taking settings, which knows nothing of how they were calculated."""
    rng = random.Random(seed)
    base = "\n".join(dict.fromkeys(router_config("edge", 1).replace("!\n", "").splitlines())) + "\n"
    now, wanted = _changed(rng, base), _changed(rng, base)
    lines = lines_between(now, wanted, Lines(), _saying)
    assert _sections(_typed(now, lines)) == _sections(wanted)
    assert lines_between(wanted, wanted, Lines(), _saying) == []


def _sections(text: str) -> dict[str, list[str]]:
    """What each section holds: lists in their order, the rest of the top level by its words."""
    found: dict[str, list[str]] = {}
    section = ""
    for line in text.splitlines():
        if line.startswith("!"):
            continue
        if line.startswith("  "):
            found.setdefault(section, []).append(line)
        else:
            section = line
            found.setdefault(line.split()[0], []).append(line)
    return {
        name: list(dict.fromkeys(lines)) if name.startswith("access-list ") else sorted(set(lines))
        for name, lines in found.items()
    }


@pytest.mark.parametrize(
    ("now", "wanted", "lines"),
    [
        ("a\n x\n y\n", "a\n x\na\n z\n", ["a", "  z", "  no y", "  exit"]),
        ("a\n x\n", "a\n x\nb\n v\na\n y\n", ["b", "  v", "  exit", "a", "  y", "  exit"]),
        ("a\n x\na\n y\n", "a\n x\n y\n", []),
        ("a\n x\na\n y\n", "b\n", ["b", "no a"]),
    ],
)
def test_a_section_in_several_places_is_one(now: str, wanted: str, lines: list[str]) -> None:
    assert lines_between(now, wanted, Lines(), _saying) == lines


def test_flat_lines_are_taken_back_by_another_word() -> None:
    now, wanted = "set a 1\nset b 2\n", "set a 1\nset c 3\n"
    how = Lines(negate=("set", "delete"))
    assert lines_between(now, wanted, how, _saying) == ["set c 3", "delete b 2"]
    with pytest.raises(ValueError, match="nothing undoes"):
        lines_between("other b 2\n", "", how, _saying)


# ---- over other transports -------------------------------------------------------------------------------------------


def _push(estate: EstateFolder, version: str, *arguments: str) -> Result:
    """Look at the change, and make it."""
    variables = {"PW": PASSWORD, "UP": ELEVATION}
    shown = estate.run("push", version, *arguments, **variables)
    return estate.run("push", version, *arguments, "--confirm", _digest(shown), **variables)


_TREE = """push = [
  { put = "data", part = "data" },
  { send = ["sh", "-c", "echo reloaded >> reloads"] },
]
"""


@pytest.fixture
def tree(files_estate: EstateFolder) -> EstateFolder:
    """Two versions of a folder of this machine."""
    files_estate.write(FILES_ESTATE.replace('steps = [{ pull = "data" }]', 'steps = [{ pull = "data" }]\n' + _TREE))
    (files_estate.path / "data" / "sub").mkdir()
    (files_estate.path / "data" / "sub" / "blob.bin").write_bytes(bytes(range(256)))
    (files_estate.path / "data" / "a.conf").chmod(0o640)
    assert files_estate.run("collect").code == 0
    (files_estate.path / "data" / "a.conf").write_text("one\nother\n")
    shutil.rmtree(files_estate.path / "data" / "sub")
    (files_estate.path / "data" / "new.conf").write_text("new\n")
    return files_estate


def test_files_of_this_machine_and_what_takes_them_up(tree: EstateFolder) -> None:
    done = _push(tree, "files@1")
    assert done.code == 1, done.said
    assert "data/new.conf is not in that version: it is kept" in done.out
    assert "files does NOT match files@1" in done.out, "of what is there too it is told"
    assert (tree.path / "data" / "a.conf").read_text() == "one\ntwo\nthree\n"
    assert (tree.path / "data" / "a.conf").stat().st_mode & 0o777 == 0o640
    assert (tree.path / "data" / "sub" / "blob.bin").read_bytes() == bytes(range(256))
    assert (tree.path / "reloads").read_text() == "reloaded\n"


def test_one_file_alone(tree: EstateFolder) -> None:
    done = _push(tree, "files@1", "--only", "data/a.conf")
    assert done.code == 0, done.said
    assert (tree.path / "data" / "a.conf").read_text() == "one\ntwo\nthree\n"
    assert not (tree.path / "data" / "sub").exists()


@needs("an OpenSSH server")
def test_files_over_a_real_sftp_server(estate: EstateFolder, tmp_path: Path) -> None:
    keys, place = tmp_path / "sshd", tmp_path / "there"
    keys.mkdir()
    place.mkdir()
    (place / "app.conf").write_text("one\n")
    (place / "app.conf").chmod(0o604)
    with running_server(keys) as server:
        table = f"""
[procedures.p]
over = "ssh-exec"
tries = 1
steps = [{{ pull = "{place}/app.conf" }}]
push = [{{ put = "{place}/app.conf", part = "app.conf" }}, {{ send = "echo up >> {place}/reloads" }}]
"""
        describe_source(estate, server, "p", table=table)
        assert estate.run("collect").code == 0
        (place / "app.conf").write_text("two\n")
        done = _push(estate, "s@1")
        assert done.code == 0, done.said
        assert (place / "app.conf").read_text() == "one\n"
        assert (place / "app.conf").stat().st_mode & 0o777 == 0o604
        assert sorted(one.name for one in place.iterdir()) == ["app.conf", "reloads"]
        (place / "app.conf").write_text("three\n")
        estate.write((estate.path / "historon.toml").read_text().replace('put = "', 'put = "/proc/nowhere'))
        failed = _push(estate, "s@1")
        assert failed.code == 6
        assert "cannot be written" in failed.err or "" in failed.err
        assert (place / "app.conf").read_text() == "three\n"


_WALL = """
  { send = "POST /api/session", json = { user = "{user}", password = "{password}" }, learn_secret = { token = "json:/session/token" } },
  STEP,
  { tidy = "DELETE /api/session", headers = { x-tide-token = "{token}" } }"""


def test_an_upload_to_a_firewall(estate: EstateFolder, tmp_path: Path) -> None:
    rules = {"now": '<?xml version="1.0"?>\n<rules>\n  <rule name="quays"/>\n</rules>\n'}
    wall = Tidewall("wall", tmp_path / "wall", lambda: rules["now"], lambda text: rules.update(now=text))
    wall.start()
    try:
        flat = " ".join(_WALL.split())
        kept = flat.replace(
            "STEP", '{ keep = "/api/export", headers = { x-tide-token = "{token}" }, as = "rules.xml" }'
        )
        put = flat.replace(
            "STEP", '{ put = "/api/export", part = "rules.xml", headers = { x-tide-token = "{token}" } }'
        )
        describe_estate(
            estate,
            over="https",
            steps=kept,
            procedure=f"push = [{put}]",
            source=f'address = "127.0.0.1"\nport = {wall.port}\ncredentials = "c"\ncertificate = "{wall.fingerprint}"',
        )
        assert collect(estate).code == 0
        wanted = rules["now"]
        rules["now"] = wanted.replace("quays", "anybody")
        done = _push(estate, "s@1")
        assert done.code == 0, done.said
        assert rules["now"] == wanted
        assert wall.tokens == set(), "it logged out each time"
    finally:
        wall.stop()


_SWITCH = '<config xmlns="urn:thole"><port name="p1"><vlan>110</vlan></port></config>'
_CONFIRMED = """push = [
  { put = "candidate", part = "running.xml" },
  { send = "validate candidate" },
  { send = "confirmed-commit 120" },
]
push_confirm = [{ send = "confirm" }]
"""


@pytest.fixture
def switch(background: Background) -> Iterator[tuple[Thole, dict[str, str]]]:
    config = {"now": _SWITCH}
    device = Thole("t", lambda: config["now"], save=lambda text: config.update(now=text))
    background.run(device.start())
    yield device, config
    background.run(device.stop())


@pytest.fixture
def switched(estate: EstateFolder, switch: tuple[Thole, dict[str, str]]) -> EstateFolder:
    """A version of a switch, whose configuration was changed since."""
    device, config = switch
    describe_estate(
        estate,
        over="netconf",
        steps='{ keep = "get-config running", as = "running.xml" }',
        procedure=_CONFIRMED,
        source=f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\nhost_key = "{device.fingerprint}"',
    )
    assert collect(estate).code == 0
    config["now"] = _SWITCH.replace("110", "131")
    return estate


def test_a_switch_is_confirmed_over_a_fresh_connection(
    switched: EstateFolder, switch: tuple[Thole, dict[str, str]]
) -> None:
    device, config = switch
    done = _push(switched, "s@1")
    assert done.code == 0, done.said
    device.run_out()
    assert "<vlan>110</vlan>" in config["now"], "for good"


def test_a_switch_that_cannot_be_reached_any_more_goes_back_by_itself(
    switched: EstateFolder, switch: tuple[Thole, dict[str, str]]
) -> None:
    device, config = switch
    variables = {"PW": PASSWORD, "UP": ELEVATION}
    digest = _digest(switched.run("push", "s@1", **variables))
    device.fault = TholeFault.UNREACHABLE
    failed = switched.run("push", "s@1", "--confirm", digest, **variables)
    assert failed.code == 6, failed.said
    assert "THE PUSH FAILED" in failed.err
    assert "the state of s is UNKNOWN" in failed.err
    device.run_out()
    assert "<vlan>131</vlan>" in config["now"]
    device.fault = None
    assert "PUSH INTERRUPTED: s" in switched.run("status").err
    assert collect(switched).code == 0


def test_what_the_switch_finds_invalid_never_comes_into_force(
    switched: EstateFolder, switch: tuple[Thole, dict[str, str]]
) -> None:
    device, config = switch
    device.fault = TholeFault.INVALID
    failed = _push(switched, "s@1")
    assert failed.code == 6
    assert "vlan 4095 cannot be" in failed.err
    assert "s does NOT match s@1" in failed.out
    assert "<vlan>131</vlan>" in config["now"]


# ---- a section alone -------------------------------------------------------------------------------------------------


def test_a_section_alone_of_a_router(pushable: EstateFolder, edge: Edge) -> None:
    done = _push(pushable, "t@1", "--only", "interface port-3")
    assert done.code == 0, done.said
    assert "interface port-3 of t now matches t@1 (noise ignored)" in done.out
    assert "--only 'interface port-3'" in done.out, "the way back is no wider"
    assert "access-list" not in done.out
    assert "description berth 3 ticket hall" in edge.text
    assert "permit any 10.20.30.0/24" in edge.text, "the rest stays as it is"
    assert pushable.run("push", "t@1", "--only", "interface port-99").code == 2


def test_a_section_put_back_into_a_text(tree: EstateFolder) -> None:
    file = tree.path / "data" / "a.conf"
    file.write_text("top\n[one]\na = 1\n[two]\nb = 2\n")
    assert tree.run("collect").code == 0
    number = tree.run("versions", "files", "--json").rows[0]["version"]
    file.write_text("top changed\n[one]\na = 7\nextra = 1\n")
    done = _push(tree, f"files@{number}", "--only", "[one]")
    assert done.code == 0, done.said
    assert file.read_text() == "top changed\n[one]\na = 1\n"
    done = _push(tree, f"files@{number}", "--only", "[two]")
    assert done.code == 0, done.said
    assert file.read_text() == "top changed\n[one]\na = 1\n[two]\nb = 2\n"


@pytest.mark.parametrize(
    ("before", "after", "place", "said"),
    [
        (
            "<c>\n  <i>\n    <n>1</n>\n  </i>\n</c>\n",
            "<c>\n  <k>\n    <n>2</n>\n  </k>\n</c>\n",
            "<k>",
            "XML would be",
        ),
        ("b\n  w\nend\n", "a\n  x\nend\n", "a / x", 'its place "a" is missing now'),
    ],
)
def test_a_section_that_makes_no_whole_text_is_not_put(
    tree: EstateFolder, before: str, after: str, place: str, said: str
) -> None:
    file = tree.path / "data" / "a.conf"
    file.write_text(after)
    assert tree.run("collect").code == 0
    number = tree.run("versions", "files", "--json").rows[0]["version"]
    file.write_text(before)
    refused = tree.run("push", f"files@{number}", "--only", place)
    assert refused.code == 2, refused.said
    assert said in " ".join(refused.said.split())
    assert file.read_text() == before


# ---- other ways ------------------------------------------------------------------------------------------------------


def test_the_service_tells_of_a_push_that_was_left_in_the_middle(pushable: EstateFolder) -> None:
    text = (pushable.path / "historon.toml").read_text()
    channel = '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\n'
    pushable.write(text.replace("[[sources]]", '[timetables.t]\nat = "02:30"\n[[sources]]\ntimetable = "t"') + channel)
    store = pushable.store()
    note = {"wanted": 1, "before": 2, "since": "2026-10-01T02:30:00+00:00", "until": "", "by": ""}
    store.remember("t", PUSHING, json.dumps(note))
    store.close()
    assert pushable.run("serve", "--once").code in (0, 1)
    told = (pushable.path / "told.jsonl").read_text()
    assert "Historon ended while it pushed t@1" in told
    assert "push-failed" in told


@needs("an OpenSSH server")
def test_a_file_over_scp(estate: EstateFolder, tmp_path: Path) -> None:
    keys, place = tmp_path / "sshd", tmp_path / "there"
    keys.mkdir()
    place.mkdir()
    (place / "app.conf").write_text("one\n")
    with running_server(keys) as server:
        table = f"""
[procedures.p]
over = "ssh-exec"
transfer = "scp"
tries = 1
steps = [{{ pull = "{place}/app.conf" }}]
push = [{{ put = "{place}/app.conf", part = "app.conf" }}]
"""
        describe_source(estate, server, "p", table=table)
        assert estate.run("collect").code == 0
        (place / "app.conf").write_text("two\n")
        done = _push(estate, "s@1")
        assert done.code == 0, done.said
        assert (place / "app.conf").read_text() == "one\n"


class _Forms(WebServer):
    """Gives a text at /get, and takes another as the file of a form at /put (RFC 7578)."""

    text = "one\n"

    def answer(self, request: Request) -> Reply:
        if request.method == "POST" and request.path == "/put":
            head = f"content-type: {request.headers['content-type']}\r\n\r\n".encode()
            message = email.message_from_bytes(head + request.body, policy=email.policy.HTTP)
            fields = {one.get_param("name", header="content-disposition"): one for one in message.iter_parts()}
            if fields["token"].get_payload(decode=True) != b"42":
                return Reply(b"no token", 403)
            taken = fields["config"].get_payload(decode=True)
            assert isinstance(taken, bytes)
            self.text = taken.decode()
            return Reply(b"taken")
        return Reply(self.text.encode())


def test_an_upload_by_a_form(estate: EstateFolder, tmp_path: Path) -> None:
    server = _Forms("forms", tmp_path / "forms")
    server.start()
    try:
        describe_estate(
            estate,
            over="https",
            steps='{ keep = "/get", as = "app.cfg" }',
            procedure='push = [{ put = "/put", part = "app.cfg", method = "POST", field = "config", form = { token = "42" } }]',
            source=f'address = "127.0.0.1"\nport = {server.port}\ncertificate = "{server.fingerprint}"',
        )
        assert collect(estate).code == 0
        server.text = "two\n"
        done = _push(estate, "s@1")
        assert done.code == 0, done.said
        assert server.text == "one\n"
        estate.write((estate.path / "historon.toml").read_text().replace('token = "42"', 'token = "43"'))
        server.text = "three\n"
        failed = _push(estate, "s@1")
        assert failed.code == 6
        assert "403" in failed.err
    finally:
        server.stop()


def test_what_is_much_smaller_again_is_compared_though_it_looks_suspect(
    router_estate: Callable[..., EstateFolder], edge: Edge
) -> None:
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    more = "".join(f"interface port-{number}\n  description more {number}\n!\n" for number in range(100, 170))
    edge.edit("access-list quay-in\n", more + "access-list quay-in\n")
    assert estate.run("collect").code == 0
    done = _push(estate, "t@1")
    assert done.code == 0, done.said
    assert "t now matches t@1 (noise ignored)" in done.out
    assert estate.run("status", "--json").rows[0]["last_outcome"] == "suspect", "a person vouches for it"


def test_what_was_lost_can_be_brought_back_though_what_is_left_looks_suspect(tree: EstateFolder) -> None:
    whole = "".join(f"option-{number} = {number}\n" for number in range(200))
    (tree.path / "data" / "a.conf").write_text(whole)
    assert tree.run("collect").code == 0
    number = tree.run("versions", "files", "--json").rows[0]["version"]
    (tree.path / "data" / "a.conf").write_text("option-1 = 1\n")
    shown = tree.run("push", f"files@{number}")
    assert "This export is suspect, and was set aside" in shown.out, shown.said
    done = tree.run("push", f"files@{number}", "--confirm", _digest(shown))
    assert done.code == 0, done.said
    assert (tree.path / "data" / "a.conf").read_text() == whole
