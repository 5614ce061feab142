"""Collecting from a real OpenSSH server, by key and by password, where the distribution's server is installed."""

import os
import pwd
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import EstateFolder

SSHD = shutil.which("sshd", path="/usr/sbin:/usr/bin:/usr/local/sbin")
_ROOT = os.geteuid() == 0
pytestmark = pytest.mark.skipif(SSHD is None, reason="no OpenSSH server is installed")


@dataclass(frozen=True)
class Server:
    port: int
    host_key: str
    client_key: Path
    user: str


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _wait_for(port: int) -> None:
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline:
        try:
            with socket.create_connection(("127.0.0.1", port), 1) as sock:
                if sock.recv(4) == b"SSH-":
                    return
        except OSError:
            continue
    raise AssertionError("sshd did not come up")


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    folder = tmp_path_factory.mktemp("sshd")
    for name in ("host", "client"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / name], check=True)
    (folder / "authorized").write_text((folder / "client.pub").read_text())
    port = _free_port()
    (folder / "config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/authorized\n"
        f"PidFile {folder}/pid\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication yes\n"
        "PrintMotd no\nPrintLastLog no\nSubsystem sftp internal-sftp\n"
    )
    if _ROOT:
        Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen([str(SSHD), "-D", "-e", "-f", folder / "config"], stderr=subprocess.DEVNULL)
    try:
        _wait_for(port)
        listed = subprocess.run(["ssh-keygen", "-lf", folder / "host.pub"], capture_output=True, check=True, text=True)
        yield Server(port, listed.stdout.split()[1], folder / "client", pwd.getpwuid(os.geteuid()).pw_name)
    finally:
        process.terminate()
        process.wait()


def _estate(estate: EstateFolder, server: Server, user: str, secret: str) -> EstateFolder:
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


def test_by_key(estate: EstateFolder, server: Server) -> None:
    shutil.copy(server.client_key, estate.path / "keys" / "client")
    result = _estate(estate, server, server.user, 'key = "file:keys/client"').run("collect")
    assert result.code == 0, result.said
    assert estate.run("show", "real").out == _EXPECTED


def test_commands_and_files(estate: EstateFolder, server: Server, tmp_path: Path) -> None:
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
    assert "it ended with exit code 2" in failed.out
    assert "/nowhere" in failed.out.partition("| ls")[2]


@pytest.mark.skipif(not _ROOT, reason="a user with a password can only be made by root")
def test_by_password(estate: EstateFolder, server: Server) -> None:
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
        assert "refuses the log-in" in refused.out
        assert "tide" not in refused.said
    finally:
        subprocess.run(["userdel", "-f", user], check=False, capture_output=True)
