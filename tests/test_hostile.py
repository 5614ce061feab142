"""Two hundred hostile exports through every command: each in its time, in bounded memory, in words; the honest ones go on."""

import json
import resource
import shlex
import subprocess
import time
from pathlib import Path

import pytest
from torture.hostile import hostile_exports

from historon.cli.main import run
from historon.store import FolderStore
from tests.conftest import PROGRAM, EstateFolder

_HEAD = """
[estate]
name = "Test"
[procedures.files]
over = "local"
steps = [{ pull = "sent/{file}", as = "{file}" }]
noise = ['uptime (\\d+)', 'value:time', 'path:^x / ', 'xpath://hits', 'json:/rules/*/hits']
unordered = ['^pool']
secret = ['^chap (\\S+)']
max_shrink = "100%"
[channels.record]
kind = "file"
path = "told.jsonl"
tell = "always"
[channels.program]
kind = "command"
command = ["cat"]
tell = "always"
[[requirements]]
name = "no telnet"
must_not = ["telnet"]
[[requirements]]
name = "ports"
each = "^interface "
must = ["mtu"]
"""
_OF_ALL = ("status", "changes", "changes --by day", "find mtu", "find -e 'port \\d+' --ever", "requirements", "rounds 2", "doctor", "notices --history", "find port --json", "changes --json")  # fmt: skip
_OF_EACH = ("diff {0}@1 {0}@2 --form side", "diff {0}@1 {0}@2 --json", "trace {0} port", "restore {0}@2 --to back/{0} --suspect",
)  # fmt: skip


def _sent(folder: Path) -> EstateFolder:
    """Both rounds have been: what was sent before, and what was sent then."""
    estate = EstateFolder(folder)
    FolderStore.create(estate.path / "store").close()
    (estate.path / "sent").mkdir()
    exports = list(hostile_exports())
    files = {f"h{number:03}": f"h{number:03}.{ending}" for number, (ending, _, _) in enumerate(exports)}
    files |= {f"honest-{number}": f"honest-{number}.txt" for number in range(5)}
    estate.write(_HEAD + "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "files"\nvalues = {{ file = "{file}" }}\n' for name, file in files.items()
    ))  # fmt: skip
    for side in (1, 2):
        for number, export in enumerate(exports):
            (estate.path / "sent" / files[f"h{number:03}"]).write_bytes(export[1] if side == 1 else export[2])
        for number in range(5):
            (estate.path / "sent" / f"honest-{number}.txt").write_text(f"hostname honest\nmtu {side}500\n")
        began = time.monotonic()
        done = subprocess.run(
            [PROGRAM, "collect"],
            cwd=estate.path,
            capture_output=True,
            text=True,
            errors="replace",
            check=False,
            timeout=600,
        )
        assert done.returncode in (0, 3), done.stderr
        assert "Traceback" not in done.stdout + done.stderr
        assert "defect" not in done.stdout + done.stderr
        assert time.monotonic() - began < 300
    return estate


def _stored_as_it_came(sent: EstateFolder) -> None:
    exports = list(hostile_exports())
    store = sent.store()
    outcomes = {visit.source: visit for visit in store.visits(2)}
    assert len(outcomes) == len(exports) + 5
    assert {outcomes[f"honest-{number}"].outcome for number in range(5)} == {"changed"}
    for number, (_, before, now) in enumerate(exports):
        visit = outcomes[f"h{number:03}"]
        assert visit.outcome in ("changed", "unchanged", "suspect"), visit
        contents = {
            store.read(part) for one in store.versions(visit.source) for part in store.parts(visit.source, one.number)
        }
        assert contents == {before, now} or (not now and contents == {before, b""})
        assert "defect" not in (visit.note or "")
        assert "not compared" not in (visit.note or ""), visit
    store.close()


def _said_of_all(sent: EstateFolder, capfd: pytest.CaptureFixture[str]) -> None:
    for command in _OF_ALL:
        code = run(shlex.split(command))
        told = capfd.readouterr()
        assert code in (0, 1, 2, 5), (command, told.err[-500:])
        assert "defect" not in told.err, (command, told.err)
        if "--json" in command:
            json.loads(told.out)
    for line in Path("told.jsonl").read_text().splitlines():
        json.loads(line)


def _said_of_each(sent: EstateFolder, capfd: pytest.CaptureFixture[str]) -> None:
    for number in [
        *range(60),
        *range(60, len(list(hostile_exports())), 3),
    ]:  # those of their own, and some of the others
        name = f"h{number:03}"
        for command in _OF_EACH:
            began = time.process_time()
            code = run(command.format(name).split())
            told = capfd.readouterr()
            assert code in (0, 1, 2, 6), (command, name, told.err[-500:])
            assert "defect" not in told.err, (command, name, told.err)
            assert "\x1b]0;owned" not in told.out or command in ("show {0}", "diff {0}@1 {0}@2"), (
                "piped, bytes are bytes"
            )
            assert time.process_time() - began < 60, (command, name)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss < 3_000_000, "kB"
    assert not Path("/etc/up").exists()
    inside = {path.resolve() for path in (sent.path / "back").rglob("*")}
    assert all(path.is_relative_to(sent.path.resolve()) for path in inside)


def test_two_hundred_hostile_exports_are_stored_and_told_of_in_words(
    tmp_path: Path, capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    sent = _sent(tmp_path)
    monkeypatch.chdir(sent.path)
    _stored_as_it_came(sent)
    _said_of_all(sent, capfd)
    _said_of_each(sent, capfd)
