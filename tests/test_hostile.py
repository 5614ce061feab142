"""Two hundred hostile exports through every command: each in its time, in bounded memory, in words; the honest ones go on."""

import json
import os
import re
import resource
import shlex
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import pytest
from torture.hostile import hostile_exports

from historon.cli.main import run
from historon.standins.pennant import Pennant
from historon.store import FolderStore
from tests.conftest import PROGRAM, EstateFolder, WebListener
from tests.test_mail import relay

pytestmark = pytest.mark.campaign

__all__ = ["relay"]

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
[credentials.mail]
user = "historon"
password = "env:MAIL_PASSWORD"
[channels.letters]
kind = "mail"
to = ["one@brackwater.example"]
from = "historon@brackwater.example"
server = "localhost"
port = RELAY_PORT
security = "starttls"
credentials = "mail"
certificate = "RELAY_PIN"
attach = "masked"
attach_at_most = "10MB"
tell = "always"
[channels.hook]
kind = "webhook"
url = "env:HOOK"
tell = "always"
[channels.logs]
kind = "syslog"
server = "127.0.0.1"
port = LOG_PORT
over = "udp"
tell = "always"
[[requirements]]
name = "no telnet"
must_not = ["telnet"]
[[requirements]]
name = "ports"
each = "^interface "
must = ["mtu"]
"""
_OF_ALL = (
    "status",
    "changes",
    "changes --by day",
    "find mtu",
    "find -e 'port \\d+' --ever",
    "requirements",
    "rounds 2",
    "doctor",
    "notices history",
    "find port --json",
    "changes --json",
)
_MOST_ROWS = 2_000  # that are drawn side by side: a thousand of them take a second
_OF_EACH = (
    "diff {0}@1 {0}@2 --form side",
    "diff {0}@1 {0}@2 --json",
    "trace {0} port",
    "restore {0}@2 --to back/{0} --suspect",
)


@dataclass
class _Heard:
    """Those who are notified: a relay, a web server and a log server."""

    relay: Pennant
    hook: WebListener
    logs: socket.socket

    def estate_file(self) -> str:
        """How they are reached."""
        port, log_port = str(self.relay.port), str(self.logs.getsockname()[1])
        return (
            _HEAD.replace("RELAY_PORT", port)
            .replace("RELAY_PIN", self.relay.tls.fingerprint)
            .replace("LOG_PORT", log_port)
        )


@pytest.fixture
def heard(relay: Pennant, listener: WebListener) -> Iterator[_Heard]:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as logs:
        logs.bind(("127.0.0.1", 0))
        logs.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2**24)
        logs.setblocking(False)
        yield _Heard(relay, listener, logs)


def _sent(folder: Path, heard: _Heard) -> EstateFolder:
    """Both rounds have been: what was sent before, and what was sent then."""
    estate = EstateFolder(folder)
    estate.path.mkdir()
    FolderStore.create(estate.path / "store").close()
    (estate.path / "sent").mkdir()
    exports = list(hostile_exports())
    files = {f"h{number:03}": f"h{number:03}.{ending}" for number, (ending, _, _) in enumerate(exports)}
    files |= {f"honest-{number}": f"honest-{number}.txt" for number in range(5)}
    estate.write(
        heard.estate_file()
        + "".join(
            f'[[sources]]\nname = "{name}"\nprocedure = "files"\nvalues = {{ file = "{file}" }}\n'
            for name, file in files.items()
        )
    )
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
            env={**os.environ, "HOOK": heard.hook.address, "MAIL_PASSWORD": "signal-flag"},
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


def _told_in_a_form_that_harms_nobody(heard: _Heard) -> None:
    """Every channel was notified of both rounds, in its own form, and nothing of what was sent is more than text there."""
    assert len(heard.relay.letters) == 2
    for letter in heard.relay.letters:
        assert "\n" not in letter["Subject"]
        text, html = (letter.get_body((kind,)).get_content() for kind in ("plain", "html"))  # type: ignore[union-attr]
        assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202e\u2066]", text.replace("\r\n", "\n"))
        assert not re.search(r"<(?:input|a\b(?! href)|script|lol|rule|config)", html), "markup that came from outside"
    assert any(True for _ in heard.relay.letters[1].iter_attachments())
    assert len(heard.hook.heard) == 2
    assert all(json.loads(body)["events"] for _, _, body in heard.hook.heard)
    messages = []
    with suppress(BlockingIOError):
        while True:
            messages.append(heard.logs.recv(2**16))
    assert messages
    assert all(re.match(rb"<\d+>1 \S+ \S+ historon \d+ ", one) for one in messages)
    assert not any(re.search(rb"[\x00-\x1f\x7f]", one) for one in messages), "a message would be forged"


def _said_of_each(sent: EstateFolder, capfd: pytest.CaptureFixture[str]) -> None:
    exports = list(hostile_exports())
    for number in [*range(0, 60, 3), *range(60, len(exports), 12)]:  # of those of their own, and of the others
        name = f"h{number:03}"
        longest = max(content.count(b"\n") for content in exports[number][1:])
        for command in _OF_EACH[longest > _MOST_ROWS :]:
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
    tmp_path: Path, capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, heard: _Heard
) -> None:
    sent = _sent(tmp_path / "estate", heard)
    _told_in_a_form_that_harms_nobody(heard)
    monkeypatch.chdir(sent.path)
    _stored_as_it_came(sent)
    _said_of_all(sent, capfd)
    _said_of_each(sent, capfd)
