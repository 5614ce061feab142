"""Collecting from a real OpenSSH server, by key and by password, where the distribution's server is installed."""

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import EstateFolder
from tests.openssh import OpenSshServer, running_server
from tests.peers import needs

_ROOT = os.geteuid() == 0
pytestmark = needs("an OpenSSH server")


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenSshServer]:
    with running_server(tmp_path_factory.mktemp("sshd")) as running:
        yield running


def _estate(estate: EstateFolder, server: OpenSshServer, user: str, secret: str) -> EstateFolder:
    estate.write(f"""
[estate]
name = "Real"
[credentials.c]
user = "{user}"
{secret}
[procedures.unix]
over = "ssh-shell"
prompt = '[#$] ?$'
steps = [
  {{ send = "PS1='ready$ '; PAGER=cat" }},
  {{ keep = "seq 1 20000; echo end", as = "numbers.txt", ends_with = "end" }},
]
[[sources]]
name = "real"
address = "127.0.0.1"
port = {server.port}
procedure = "unix"
credentials = "c"
host_key = "{server.host_key}"
""")
    return estate


_EXPECTED = "".join(f"{n}\n" for n in range(1, 20001)) + "end\n"


def test_by_key(estate: EstateFolder, server: OpenSshServer) -> None:
    shutil.copy(server.client_key, estate.path / "keys" / "client")
    result = _estate(estate, server, server.user, 'key = "file:keys/client"').run("collect")
    assert result.code == 0, result.said
    assert estate.run("show", "real").out == _EXPECTED


def test_commands_and_files(estate: EstateFolder, server: OpenSshServer, tmp_path: Path) -> None:
    """Exec and SFTP against the real thing: exit codes, standard error, a tree with an odd name, a large file."""
    tree = tmp_path / "tree"
    (tree / "in ner").mkdir(parents=True)
    (tree / "in ner" / os.fsdecode(b"caf\xe9")).write_bytes(b"latin")
    big = os.urandom(3_000_000)
    (tree / "big.bin").write_bytes(big)
    shutil.copy(server.client_key, estate.path / "keys" / "client")
    _estate(estate, server, server.user, 'key = "file:keys/client"')
    text = (estate.path / "historon.toml").read_text()
    before, _, after = text.partition("[procedures.unix]")
    steps = f"""[procedures.unix]
over = "ssh-exec"
steps = [
  {{ keep = "cat /proc/version; echo warning >&2", as = "version.txt" }},
  {{ pull = "{tree}", as = "tree" }},
  {{ tidy = "touch {tmp_path}/tidied" }},
]
"""
    estate.write(before + steps + after[after.index("[[sources]]") :])
    result = estate.run("collect")
    assert result.code == 0, result.said
    store = estate.store()
    parts = {part.name: store.read(part) for part in store.parts("real", 1)}
    assert parts["version.txt"] == Path("/proc/version").read_bytes()
    assert (parts["tree/big.bin"], parts["tree/in ner/caf\\xe9"]) == (big, b"latin")
    assert (tmp_path / "tidied").exists()
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace("cat /proc/version; echo warning >&2", "ls /nowhere"))
    failed = estate.run("collect")
    assert failed.code == 3
    assert "the command ended with exit code 2" in failed.err
    assert "/nowhere" in failed.said.partition("| ls")[2]


@pytest.mark.skipif(not _ROOT, reason="a user with a password can only be made by root")
def test_by_password(estate: EstateFolder, server: OpenSshServer) -> None:
    user = "historon-test"
    subprocess.run(["userdel", "-f", user], check=False, capture_output=True)
    subprocess.run(["useradd", "-M", "-d", "/tmp", "-s", "/bin/sh", user], check=True)
    try:
        subprocess.run(["chpasswd"], input=f"{user}:low-tide-9\n".encode(), check=True)
        result = _estate(estate, server, user, 'password = "env:PW"').run("collect", PW="low-tide-9")
        assert result.code == 0, result.said
        assert estate.run("show", "real").out == _EXPECTED
        refused = estate.run("collect", PW="high-tide-9")
        assert refused.code == 3
        assert "refused the log-in" in refused.err
        assert "tide" not in refused.said
    finally:
        subprocess.run(["userdel", "-f", user], check=False, capture_output=True)


def _files_from(
    estate: EstateFolder,
    server: OpenSshServer,
    secret: str,
    steps: str,
    procedure: str = "",
    source: str = "",
    more: str = "",
) -> EstateFolder:
    estate.write(f"""
[estate]
name = "Real"
[credentials.c]
user = "{server.user}"
{secret}
[procedures.unix]
over = "ssh-exec"
steps = [{steps}]
{procedure}
[[sources]]
name = "real"
address = "127.0.0.1"
port = {server.port}
procedure = "unix"
credentials = "c"
{source or f'host_key = "{server.host_key}"'}
{more}
""")
    return estate


def _key(estate: EstateFolder, file: Path) -> str:
    shutil.copy(file, estate.path / "keys" / file.name)
    (estate.path / "keys" / file.name).chmod(0o600)
    return f'key = "file:keys/{file.name}"'


def test_a_certificate_lets_in_and_an_agent_signs(estate: EstateFolder, server: OpenSshServer) -> None:
    folder = server.client_key.parent
    certified = _key(estate, folder / "certified")
    assert (
        "refused the log-in" in _files_from(estate, server, certified, '{ keep = "id", as = "id" }').run("collect").err
    )
    certified += f'\ncertificate = "{folder}/certified-cert.pub"'
    result = _files_from(estate, server, certified, '{ keep = "id", as = "id" }').run("collect")
    assert result.code == 0, result.said
    started = subprocess.run(["ssh-agent", "-c"], capture_output=True, text=True, check=True).stdout
    words = started.replace(";", " ").split()
    variables = {name: words[words.index(name) + 1] for name in ("SSH_AUTH_SOCK", "SSH_AGENT_PID")}
    try:
        subprocess.run(["ssh-add", "-q", server.client_key], env={**os.environ, **variables}, check=True)
        _files_from(estate, server, "agent = true", '{ keep = "id", as = "id" }')
        assert estate.run("collect", SSH_AUTH_SOCK=variables["SSH_AUTH_SOCK"]).code == 0
        assert "refused the log-in" in estate.run("collect").err, "without an agent nobody signs"
    finally:
        os.kill(int(variables["SSH_AGENT_PID"]), 15)


def test_any_of_several_host_keys_may_be_pinned(estate: EstateFolder, server: OpenSshServer) -> None:
    listed = subprocess.run(
        ["ssh-keygen", "-lf", server.client_key.parent / "host-rsa.pub"], capture_output=True, check=True, text=True
    )
    key = _key(estate, server.client_key)
    pinned = _files_from(
        estate, server, key, '{ keep = "id", as = "id" }', source=f'host_key = "{listed.stdout.split()[1]}"'
    )
    assert pinned.run("collect").code == 0
    wrong = _files_from(estate, server, key, '{ keep = "id", as = "id" }', source=f'host_key = "SHA256:{"A" * 43}"')
    assert "THE HOST KEY HAS CHANGED" in wrong.run("collect").err


@pytest.mark.parametrize("transfer", ["sftp", "scp"])
def test_files_with_checksums_over_sftp_and_scp(
    estate: EstateFolder, server: OpenSshServer, tmp_path: Path, transfer: str
) -> None:
    there = tmp_path / "there"
    there.mkdir()
    for number, name in enumerate(("cfg-2.img", "cfg-1.img")):
        (there / name).write_bytes(name.encode() * 10_000)
        os.utime(there / name, (1_700_000_000 + number, 1_700_000_000 + number))
    key = _key(estate, server.client_key)
    steps = (
        f'{{ pull = "{there}/cfg-1.img", as = "cfg.img", dated = "time", checksum = "sha256sum {there}/cfg-1.img" }}'
    )
    result = _files_from(estate, server, key, steps, f'transfer = "{transfer}"\ntries = 1').run("collect")
    assert result.code == 0, result.said
    assert estate.run("show", "real").out == "cfg-1.img" * 10_000
    assert estate.run("status", "--json").rows[0]["dated"] == "2023-11-14T22:13:21.000Z", "the time of the file there"
    other = steps.replace(f"sha256sum {there}/cfg-1", f"sha256sum {there}/cfg-2")
    result = _files_from(estate, server, key, other, f'transfer = "{transfer}"\ntries = 1').run("collect")
    assert "is incomplete: its sha256 is not" in result.err
    result = _files_from(estate, server, key, steps.replace("cfg-1", "cfg-9"), f'transfer = "{transfer}"').run(
        "collect"
    )
    assert result.code == 3
    if transfer == "sftp":
        newest = f'{{ pull = "{there}/cfg-*.img", newest = "time", as = "cfg.img" }}'
        assert "unchanged" in _files_from(estate, server, key, newest).run("collect").out
    else:
        result = _files_from(
            estate, server, key, steps.replace(", checksum", ', max_size = "10kB", checksum'), 'transfer = "scp"'
        ).run("collect")
        assert "exceeds 10.0 kB" in result.err


@pytest.mark.campaign
@pytest.mark.parametrize("transfer", ["sftp", "scp"])
def test_a_server_with_one_session_at_a_time(estate: EstateFolder, tmp_path: Path, transfer: str) -> None:
    with running_server(tmp_path, "MaxSessions 1\n") as server:
        key = _key(estate, server.client_key)
        (tmp_path / "a.cfg").write_text("hostname a\n")
        pulls = ", ".join(f'{{ pull = "{tmp_path}/a.cfg", as = "a{n}.cfg" }}' for n in range(4))
        steps = f'{{ keep = "id", as = "id" }}, {pulls}, {{ keep = "id", as = "id2" }}'
        result = _files_from(estate, server, key, steps, f'transfer = "{transfer}"\ntries = 1').run("collect")
        assert result.code == 0, result.said


def test_a_real_jump_host(estate: EstateFolder, server: OpenSshServer) -> None:
    jump = (
        f'[jumps.gate]\naddress = "127.0.0.1"\nport = {server.port}\ncredentials = "c"\nhost_key = "{server.host_key}"'
    )
    key = _key(estate, server.client_key)
    result = _files_from(estate, server, key, '{ keep = "id", as = "id" }', more='via = "gate"\n' + jump).run("collect")
    assert result.code == 0, result.said


@pytest.mark.campaign
@needs("a pager that wipes its question with blanks")
def test_a_real_pager_on_a_plain_terminal_leaves_no_trace(
    estate: EstateFolder, server: OpenSshServer, tmp_path: Path
) -> None:
    """Lines shorter, as long as and longer than its question, which comes behind another line of them each time."""
    shutil.copy(server.client_key, estate.path / "keys" / "client")
    file = tmp_path / "running.cfg"
    _estate(estate, server, server.user, 'key = "file:keys/client"')
    text = (estate.path / "historon.toml").read_text()
    written = '{ keep = "seq 1 20000; echo end", as = "numbers.txt", ends_with = "end" }'
    estate.write(
        text.replace(written, f'{{ keep = "more -e {file}", as = "running.cfg", ends_with = "end" }}').replace(
            "prompt = ", "pager = '--More--'\nprompt = "
        )
    )
    for number, more in enumerate((0, 1, 2, 5, 11), 1):
        lines = [f"line {line}".ljust(5 + line % 25, "x") for line in range(200)]
        content = "".join(f"{line}\n" for line in ["new"] * more + lines + ["end"])
        file.write_text(content)
        result = estate.run("collect")
        assert result.code == 0, result.said
        assert (" -0" if more else "new") in result.out
        store = estate.store()
        (part,) = store.parts("real", number)
        assert store.read(part).decode() == content
        store.close()
