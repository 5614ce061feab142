"""Notices to programs: webhooks, log servers, commands, files."""

import hashlib
import hmac
import json
import re
import shutil
import socket
import ssl
import subprocess
import threading
from collections.abc import Callable
from pathlib import Path

import pytest

from historon.standins.certificates import SelfSigned
from tests.conftest import FILES_ESTATE, EstateFolder, Result, WebListener
from tests.peers import needs, program
from tests.waiting import free_port


def _write(estate: EstateFolder, channel: str) -> EstateFolder:
    estate.write(f"{FILES_ESTATE}\n[channels.c]\n{channel}\n")
    return estate


def _try(estate: EstateFolder, **variables: str) -> Result:
    result = estate.run("notices", "try", "c", **variables)
    assert "CANARY" not in result.said
    return result


def test_a_webhook_gets_the_notice_signed(files_estate: EstateFolder, listener: WebListener) -> None:
    estate = _write(files_estate, 'kind = "webhook"\nurl = "env:HOOK"\nsecret = "env:KEY"')
    assert estate.run("collect", HOOK=listener.address, KEY="salt-water").code == 0
    shutil.rmtree(estate.path / "data")
    assert estate.run("collect", HOOK=listener.address, KEY="salt-water").code == 3
    headers, body = listener.heard[1][1:]
    assert headers["historon-signature"] == "sha256=" + hmac.new(b"salt-water", body, hashlib.sha256).hexdigest()
    assert headers["content-type"] == "application/json"
    told = json.loads(body)
    assert (told["estate"], told["severity"], told["severity_number"]) == ("Test", "error", 3)
    assert told["subject"].startswith("1 FAILED of 1")
    assert [(event["kind"], event["source"]) for event in told["events"]] == [
        ("failing", "files"),
        ("round-ended", None),
    ]
    assert told["events"][0]["advice"]
    assert [event["kind"] for event in json.loads(listener.heard[0][2])["events"]] == ["new", "round-ended"]


def test_a_template_writes_what_the_other_side_wants(files_estate: EstateFolder, listener: WebListener) -> None:
    estate = _write(files_estate, 'kind = "webhook"\nurl = "env:HOOK"\ntemplate = "t.j2"\ncontent_type = "text/plain"')
    (estate.path / "t.j2").write_text("{{ subject|upper }}: {{ events|length }}")
    assert "answered with status 204" in _try(estate, HOOK=listener.address).out
    assert listener.heard[0][2] == b"A TEST, NOTHING IS WRONG: TEST: 1"
    (estate.path / "t.j2").write_text("{{ subject")
    assert "the template t.j2" in _try(estate, HOOK=listener.address).err
    (estate.path / "t.j2").write_text("{{ ''.__class__.__mro__[1].__subclasses__() }}")
    assert _try(estate, HOOK=listener.address).code == 6, "templates cannot reach out"


def test_a_webhook_that_fails_says_why_and_never_where(files_estate: EstateFolder, listener: WebListener) -> None:
    estate = _write(files_estate, 'kind = "webhook"\nurl = "env:HOOK"')
    listener.status = 500
    for address, said in (
        (listener.address, "answered with status 500"),
        ("http://127.0.0.1:9/CANARY", "no answer"),
        ("ftp://CANARY", "this is not an address"),
        ("CANARY", "this is not an address"),
    ):
        result = _try(estate, HOOK=address)
        assert result.code == 6
        assert said in result.err
    assert "HOOK" in _try(estate).err
    assert "channel c" in estate.run("doctor").out


@pytest.mark.parametrize("over", ["udp", "tcp", "tls"])
def test_a_log_server_gets_a_message_for_each_event(files_estate: EstateFolder, tmp_path: Path, over: str) -> None:
    kind = socket.SOCK_DGRAM if over == "udp" else socket.SOCK_STREAM
    heard: list[bytes] = []
    certificate = SelfSigned.make(tmp_path)
    with socket.socket(socket.AF_INET, kind) as server:
        server.bind(("127.0.0.1", 0))
        server.settimeout(30)

        def listen() -> None:
            if over == "udp":
                heard.extend(server.recv(65536) for _ in range(2))
                return
            plain, _ = server.accept()
            if over == "tls":
                context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
                context.load_cert_chain(certificate.certificate, certificate.key)
                plain = context.wrap_socket(plain, server_side=True)
            stream = b""
            while piece := plain.recv(65536):
                stream += piece
            plain.close()
            while stream:
                length, _, rest = stream.partition(b" ")
                heard.append(rest[: int(length)])
                stream = rest[int(length) :]

        if over != "udp":
            server.listen()
        thread = threading.Thread(target=listen)
        thread.start()
        pin = f'certificate = "{certificate.fingerprint}"' if over == "tls" else ""
        port = server.getsockname()[1]
        _write(files_estate, f'kind = "syslog"\nserver = "127.0.0.1"\nport = {port}\nover = "{over}"\n{pin}')
        assert files_estate.run("collect").code == 0
        thread.join(30)
    first, ended = (message.decode() for message in heard)
    assert re.fullmatch(
        r"<134>1 \d{4}-\d\d-\d\dT[\d:.]+Z \S+ historon \d+ new "
        r'\[historon@32473 estate="Test" source="files" look="historon show files"\] \ufefffiles: first version; there is no earlier one to compare: look at it',
        first,
    ), first
    assert " round-ended [historon@32473 " in ended
    if over == "tcp":
        assert (
            "log server 127.0.0.1 port 9"
            in _try(_write(files_estate, 'kind = "syslog"\nserver = "127.0.0.1"\nport = 9\nover = "tcp"')).err
        )


_RSYSLOG = """
global(workDirectory="{folder}" DefaultNetstreamDriver="gtls" DefaultNetstreamDriverCAFile="{certificate}"
  DefaultNetstreamDriverCertFile="{certificate}" DefaultNetstreamDriverKeyFile="{key}")
module(load="imudp")
module(load="imtcp" StreamDriver.Name="{driver}" StreamDriver.Mode="{mode}" StreamDriver.Authmode="anon")
template(name="t" type="list" option.jsonf="on") {{
  property(outname="version" name="protocol-version" format="jsonf") property(outname="app" name="app-name" format="jsonf")
  property(outname="kind" name="msgid" format="jsonf") property(outname="data" name="structured-data" format="jsonf")
  property(outname="text" name="msg" format="jsonf") property(outname="severity" name="syslogseverity" format="jsonf")
  property(outname="facility" name="syslogfacility" format="jsonf")
  property(outname="at" name="timereported" dateFormat="rfc3339" format="jsonf")
}}
ruleset(name="r") {{ action(type="omfile" file="{folder}/out" template="t") }}
input(type="{module}" address="127.0.0.1" port="{port}" ruleset="r")
"""


@pytest.mark.parametrize(
    "over",
    [
        pytest.param("udp", marks=needs("a log server")),
        pytest.param("tcp", marks=needs("a log server")),
        pytest.param("tls", marks=needs("a log server with TLS")),
    ],
)
def test_a_real_log_server_understands_every_message(files_estate: EstateFolder, tmp_path: Path, over: str) -> None:
    certificate = SelfSigned.make(tmp_path)
    port = free_port(socket.SOCK_DGRAM if over == "udp" else socket.SOCK_STREAM)
    (tmp_path / "rsyslog.conf").write_text(
        _RSYSLOG.format(
            folder=tmp_path,
            certificate=certificate.certificate,
            key=certificate.key,
            driver="gtls" if over == "tls" else "ptcp",
            mode=int(over == "tls"),
            module="imudp" if over == "udp" else "imtcp",
            port=port,
        )
    )
    pin = f'certificate = "{certificate.fingerprint}"' if over == "tls" else ""
    name = 'one "two" [three] \\\\ four'
    text = FILES_ESTATE.replace('name = "Test"', f"name = '{name}'")
    channel = (
        f'[channels.c]\nkind = "syslog"\nserver = "127.0.0.1"\nport = {port}\nover = "{over}"\nfacility = 17\n{pin}\n'
    )
    files_estate.write(text + channel)
    said = tmp_path / "out"
    server = subprocess.Popen(
        [program("rsyslogd") or "rsyslogd", "-n", "-f", tmp_path / "rsyslog.conf", "-i", tmp_path / "pid"],
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        # Over UDP nobody says whether it arrived: tests are sent until one did.
        _until(lambda: _try(files_estate).code == 0 and _until(said.exists, tries=20))
        assert files_estate.run("collect").code == 0
        _until(lambda: "round-ended" in said.read_text())
    finally:
        server.terminate()
        complaints = server.communicate(timeout=30)[1]
    assert "error" not in complaints.lower(), complaints
    first = next(one for one in map(json.loads, said.read_text().splitlines()) if one["kind"] == "new")
    assert (first["version"], first["app"], first["severity"], first["facility"]) == ("1", "historon", "6", "17")
    assert first["text"] == "\ufefffiles: first version; there is no earlier one to compare: look at it"
    escaped = name.replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")
    assert f'estate="{escaped}" source="files"' in first["data"]


def _until(done: Callable[[], bool], *, tries: int = 400) -> bool:
    """Whether it is so before long."""
    for _ in range(tries):
        if done():
            return True
        threading.Event().wait(0.05)
    assert tries < 400, "it never came so far"
    return False


def test_a_command_gets_json_and_a_file_a_line(files_estate: EstateFolder) -> None:
    _write(files_estate, 'kind = "command"\ncommand = ["sh", "-c", "cat > told.json"]')
    assert "sh ended with exit code 0" in _try(files_estate).out
    assert json.loads((files_estate.path / "told.json").read_text())["events"][0]["kind"] == "test"
    _write(files_estate, 'kind = "command"\ncommand = ["sh", "-c", "echo no such number >&2; exit 4"]')
    assert "command sh: ended with exit code 4: no such number" in _try(files_estate).err
    _write(files_estate, 'kind = "command"\ncommand = ["sleep", "30"]\ndeadline = "100ms"')
    assert "command sleep: timed out after 100ms" in _try(files_estate).err
    _write(files_estate, 'kind = "command"\ncommand = ["no-such-program"]')
    assert _try(files_estate).code == 6
    _write(files_estate, 'kind = "file"\npath = "notices.jsonl"')
    assert files_estate.run("collect").code == 0
    assert _try(files_estate).code == 0
    file = files_estate.path / "notices.jsonl"
    assert [json.loads(line)["subject"][:6] for line in file.read_text().splitlines()] == ["1 coll", "A test"]
    assert file.stat().st_mode & 0o777 == 0o600
    _write(files_estate, 'kind = "file"\npath = "none/notices.jsonl"')
    assert "No such file" in _try(files_estate).err


def test_the_doctor_sees_files_that_are_missing_and_trouble_that_nobody_hears(files_estate: EstateFolder) -> None:
    _write(files_estate, 'kind = "webhook"\nurl = "env:HOOK"\ntemplate = "none.j2"\nhours = ["08:00-17:00"]')
    said = files_estate.run("doctor", HOOK="https://chat.example/x").out
    assert re.search(r"wrong +channel c\n.*template: there is no file .*none.j2", said)
    assert "no channel is certain to report store-trouble, failing, overdue" in said
    _write(files_estate, 'kind = "file"\npath = "x"')
    assert "channel" not in files_estate.run("doctor").out


def test_channels_are_listed(files_estate: EstateFolder) -> None:
    assert "no channel is set up" in files_estate.run("notices").out
    _write(files_estate, 'kind = "syslog"\nserver = "log.example"\ntell = "trouble"')
    told = files_estate.run("notices").out.split("\n")
    assert told[0] == "1 channel, no notice is waiting"
    assert told[2].split() == ["c", "syslog", "never", "trouble", "each", "round", "log.example", "over", "tls"]
    assert files_estate.run("notices", "try", "d").code == 2
    assert files_estate.run("notices", "try").code == 2


@pytest.mark.parametrize(
    ("channel", "said"),
    [
        ('kind = "mial"', '"mial" is not a kind of channel (did you mean "mail"?)'),
        ('tell = "always"', '"kind" is missing'),
        ('kind = "webhook"\nurl = "https://x/CANARY"', "a secret must not be in the file itself"),
        ('kind = "syslog"\nserver = "x"\nover = "udp"\nauthority = "ca.pem"', "over udp there is no certificate"),
        ('kind = "command"\ncommand = []', "runs no command"),
        ('kind = "file"\npath = "x"\nport = 3', "this key is not known"),
        ('kind = "webhook"\nurl = "env:X"\ncertificate = "SHA256:12"', "64 hexadecimal digits"),
    ],
)
def test_wrong_channels_are_refused_with_their_place(files_estate: EstateFolder, channel: str, said: str) -> None:
    result = _write(files_estate, channel).run("notices")
    assert result.code == 4
    assert said in result.err
    assert "channels.c" in result.err
    assert "CANARY" not in result.err
