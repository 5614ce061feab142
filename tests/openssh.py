"""A real OpenSSH server on loopback, as the user who runs the tests."""

import os
import pwd
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from tests.conftest import EstateFolder
from tests.peers import program
from tests.waiting import free_port, is_listening, wait_for

__all__ = ["OpenSshServer", "describe_source", "running_server"]


@dataclass(frozen=True)
class OpenSshServer:
    port: int
    host_key: str
    client_key: Path
    user: str


@contextmanager
def running_server(folder: Path, more: str = "") -> Iterator[OpenSshServer]:
    """Commands, and files over SFTP; the keys that it lets in lie in the folder.

    `more` are further settings, in which PORT stands for the server's port.
    """
    keys = [("host", "ed25519"), ("host-rsa", "rsa"), ("client", "ed25519"), ("authority", "ed25519")]
    for name, kind in (*keys, ("certified", "ed25519")):
        subprocess.run(["ssh-keygen", "-q", "-t", kind, "-N", "", "-f", folder / name], check=True)
    me = pwd.getpwuid(os.geteuid()).pw_name
    signed = ["-s", str(folder / "authority"), "-I", "historon", "-n", me, str(folder / "certified.pub")]
    subprocess.run(["ssh-keygen", "-q", *signed], check=True)
    (folder / "authorized").write_text((folder / "client.pub").read_text())
    port = free_port()
    (folder / "config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nHostKey {folder}/host-rsa\n"
        f"TrustedUserCAKeys {folder}/authority.pub\nMaxStartups 300\nAuthorizedKeysFile {folder}/authorized\n"
        f"PidFile {folder}/pid\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication yes\n"
        "PrintMotd no\nPrintLastLog no\nSubsystem sftp internal-sftp\n" + more.replace("PORT", str(port))
    )
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen([str(program("sshd")), "-D", "-e", "-f", folder / "config"], stderr=subprocess.DEVNULL)
    try:
        wait_for(lambda: is_listening(port, process, b"SSH-"))
        listed = subprocess.run(["ssh-keygen", "-lf", folder / "host.pub"], capture_output=True, check=True, text=True)
        yield OpenSshServer(port, listed.stdout.split()[1], folder / "client", me)
    finally:
        process.terminate()
        process.wait()


def describe_source(
    estate: EstateFolder, server: OpenSshServer, procedure: str, more: str = "", table: str = ""
) -> None:
    """Write an estate whose one source, `s`, is this server, by a procedure, with `more` said of the source.

    `table` is the procedure itself, where it is none that comes along.
    """
    shutil.copy(server.client_key, estate.path / "keys" / "client")
    estate.write(f"""
[estate]
name = "Test"
[credentials.c]
user = "{server.user}"
key = "file:keys/client"
{table}
[[sources]]
name = "s"
procedure = "{procedure}"
address = "127.0.0.1"
port = {server.port}
credentials = "c"
host_key = "{server.host_key}"
{more}
""")
