"""Secrets stay secret: canaries are set in every place that a secret can come from, and looked for in every place it could go."""

import base64
import json
import stat
import subprocess
from collections.abc import Iterator
from email.message import EmailMessage
from pathlib import Path
from urllib.parse import quote_plus

import pytest

from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault
from historon.standins.certificates import SelfSigned
from historon.standins.pennant import Pennant
from historon.standins.tidewall import Tidewall
from historon.standins.web import Reply, Request, WebServer
from tests.conftest import PROGRAM, EstateFolder

_PASSWORD, _ELEVATION, _PASSPHRASE = "canary & song-1", "canary-nest-2", "canary-phrase-3"
_TOKEN, _COMMUNITY = "canary-token-4", "canary-tide-5"
_CANARIES = (
    _PASSWORD,
    _ELEVATION,
    _PASSPHRASE,
    _TOKEN,
    _COMMUNITY,
    quote_plus(_PASSWORD),
    base64.b64encode(_PASSWORD.encode()).decode(),
)


class _Parrot(WebServer):
    """Says back whatever it hears, with an error; and hands out the token."""

    def answer(self, request: Request) -> Reply:
        if request.path == "/token":
            return Reply(json.dumps({"token": _TOKEN}).encode(), kind="application/json")
        said = (
            json.dumps(dict(request.headers)).encode()
            + b"\n"
            + request.body
            + b"\n"
            + str(dict(request.query)).encode()
        )
        return Reply(b"cannot understand: " + said, 400)


@pytest.fixture
def parrot(tmp_path: Path) -> Iterator[_Parrot]:
    made = _Parrot("parrot", tmp_path / "parrot")
    made.start()
    yield made
    made.stop()


@pytest.fixture
def relay(tmp_path: Path) -> Iterator[Pennant]:
    made = Pennant(SelfSigned.make(tmp_path))
    made.start()
    yield made
    made.stop()


def _write_estate(estate: EstateFolder, parrot: _Parrot, router: Capstan, relay: Pennant, wall: Tidewall) -> None:
    requests = {
        "json": 'json = { p = "{password}" }',
        "form": 'form = { p = "{password}" }',
        "headers": 'headers = { x-token = "{token}" }',
        "basic": "",
        "body": 'body = "{password} {elevation} {token}"',
    }
    procedures = "".join(
        f'[procedures.{name}]\nover = "https"\ntries = 1\nauth = "{"basic" if name == "basic" else "none"}"\nsteps = [{{ send = "/token", learn_secret = {{ token = "json:/token" }} }}, '
        f'{{ keep = "POST /say?{name}", as = "x"{", " + clause if clause else ""} }}]\n'
        for name, clause in requests.items()
    )
    sources = "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "{name}"\naddress = "127.0.0.1"\nport = {parrot.port}\ncredentials = "c"\ncertificate = "{parrot.fingerprint}"\n'
        for name in requests
    )
    (estate.path / "look.sh").write_text(
        "n=0; while [ $n -lt 40 ]; do n=$((n+1)); cat /proc/[0-9]*/cmdline | tr '\\0' ' ' >> seen; done 2>/dev/null; echo done\n"
    )
    estate.write(f"""
[estate]
name = "Canaries"
[credentials.c]
user = "config-reader"
password = "file:keys/password"
elevation = "env:CANARY_UP"
[credentials.k]
user = "config-reader"
key = "file:keys/key"
passphrase = "file:keys/passphrase"
password = "file:keys/password"
elevation = "env:CANARY_UP"
[credentials.mail]
user = "historon"
password = "file:keys/mail"
[channels.m]
kind = "mail"
to = ["a@b.example"]
from = "h@b.example"
server = "localhost"
port = {relay.port}
certificate = "{relay.tls.fingerprint}"
credentials = "mail"
{procedures}
[procedures.shell]
over = "ssh-shell"
tries = 1
step_deadline = "3s"
prompt = '^[\\w.-]+##? ?$'
steps = [
  {{ send = "elevate", answers = {{ 'password: ?$' = "{{elevation}}" }} }},
  {{ keep = "say {{password}} {{elevation}}", as = "x", check = {{ lacks = ["Unknown"] }} }},
]
[procedures.look]
over = "local"
steps = [{{ keep = ["sh", "look.sh"], as = "x" }}]
[procedures.fine]
over = "ssh-shell"
tries = 1
prompt = '^[\\w.-]+##? ?$'
pager = '-- more --'
steps = [{{ keep = "list settings active", as = "active.cfg" }}]
{sources}
[[sources]]
name = "shell"
procedure = "shell"
address = "127.0.0.1"
port = {router.port}
credentials = "c"
host_key = "{router.fingerprint}"
[[sources]]
name = "locked"
procedure = "shell"
address = "127.0.0.1"
port = {router.port}
credentials = "k"
host_key = "{router.fingerprint}"
[[sources]]
name = "fine"
procedure = "fine"
address = "127.0.0.1"
port = {router.port}
credentials = "c"
host_key = "{router.fingerprint}"
[[sources]]
name = "look"
procedure = "look"
""")


def _secret_files(estate: EstateFolder) -> None:
    subprocess.run(
        ["ssh-keygen", "-q", "-t", "ed25519", "-N", _PASSPHRASE, "-f", estate.path / "keys" / "key"], check=True
    )
    for name, text in (("password", _PASSWORD), ("passphrase", _PASSPHRASE), ("mail", "signal-flag")):
        (estate.path / "keys" / name).write_text(text + "\n")
        (estate.path / "keys" / name).chmod(0o600)


def _check(text: str, where: str) -> None:
    for canary in _CANARIES:
        assert canary not in text, (
            f"{canary} in {where}: …{text[max(0, text.find(canary) - 200) : text.find(canary) + 60]}"
        )


def test_no_secret_shows_anywhere(
    estate: EstateFolder, parrot: _Parrot, relay: Pennant, background: Background, tmp_path: Path
) -> None:
    config = f"hostname t\nmonitor community {_COMMUNITY} read-only\nuser x password {_ELEVATION}\nend\n"
    router = Capstan("t", lambda: config)
    router.password, router.elevation = _PASSWORD, _ELEVATION
    background.run(router.start())
    _secret_files(estate)
    wall = Tidewall("w", tmp_path / "w", lambda: "<x/>")
    _write_estate(estate, parrot, router, relay, wall)
    variables = {"CANARY_UP": _ELEVATION}
    said = {}
    for number, arguments in enumerate(
        (
            ["collect", "-vv"],
            ["collect", "-v", "--json"],
            ["rehearse", *["json", "form", "headers", "basic", "body", "shell", "locked", "fine"]],
            ["rehearse", "fine", "--as-service"],
            ["doctor"],
            ["status"],
            ["rounds", "1"],
            ["rounds", "1", "--json"],
            ["versions", "fine"],
            ["sources", "--json"],
            ["procedures", "--json"],
            ["diff", "fine@1", "fine@1"],
            ["status", "--json"],
        )
    ):
        if number == 1:
            config = config.replace("read-only", "read-write").replace(_COMMUNITY, _COMMUNITY + "-new")
        if number == 2:
            router.fault = Fault.CLOSES
        result = estate.run(*arguments, **variables)
        said[" ".join(arguments)] = result.said
        _check(result.said, " ".join(arguments))
    assert "cannot understand" in said["collect -vv"]
    assert "[secret " in said["collect -vv"]
    assert "step 1 of" in said["collect -vv"]
    assert relay.letters
    for letter in relay.letters:
        for kind in ("plain", "html"):
            body = letter.get_body((kind,))
            assert isinstance(body, EmailMessage)
            _check(body.get_content(), "a letter")
    _check((estate.path / "seen").read_text(errors="replace"), "the process list")
    notes = subprocess.run(
        [PROGRAM, "rounds", "1", "--json"], cwd=estate.path, capture_output=True, text=True, check=False
    )
    _check(notes.stdout, "the ledger")
    for file in (estate.path / "store").rglob("*"):
        assert not stat.S_IMODE(file.stat().st_mode) & 0o077, file
    background.run(router.stop())
