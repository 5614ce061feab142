"""A real IMAP server of one's own, where this machine has Dovecot and one is root."""

import os
import shutil
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from email.message import EmailMessage
from pathlib import Path

from historon.standins.certificates import SelfSigned
from tests.peers import program
from tests.waiting import is_listening, wait_for

__all__ = ["ImapServer", "imap_server"]

_NOBODY = 65534


@dataclass(frozen=True)
class ImapServer:
    """Where it listens, with TLS, and the Maildir of its one account, `config-reader`."""

    port: int
    fingerprint: str
    maildir: Path

    def deliver(self, letter: EmailMessage, name: str) -> None:
        """Let a letter arrive."""
        file = self.maildir / "new" / name
        being_written = self.maildir / "tmp" / name
        being_written.write_bytes(bytes(letter))
        os.chown(being_written, _NOBODY, _NOBODY)
        being_written.rename(file)


@contextmanager
def imap_server(password: str) -> Iterator[ImapServer]:
    """The server, until the end of the block."""
    dovecot = program("dovecot")
    assert dovecot is not None
    base = Path("/tmp") / f"historon-imap-{os.getpid()}"  # short, as the paths of sockets must be
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(mode=0o755)
    tls = SelfSigned.make(base, "imap")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (base / "users").write_text(f"config-reader:{{PLAIN}}{password}:{_NOBODY}:{_NOBODY}::{base}/home::\n")
    for folder in ("home", "home/Maildir", "home/Maildir/new", "home/Maildir/cur", "home/Maildir/tmp"):
        (base / folder).mkdir()
        os.chown(base / folder, _NOBODY, _NOBODY)
    version = subprocess.run([dovecot, "--version"], capture_output=True, text=True, check=True).stdout
    (base / "dovecot.conf").write_text(_configuration(base, version, port, tls))
    process = subprocess.Popen(
        [dovecot, "-F", "-c", base / "dovecot.conf"], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL
    )
    try:
        wait_for(lambda: is_listening(port, process))
        yield ImapServer(port, tls.fingerprint, base / "home" / "Maildir")
    finally:
        process.terminate()
        process.wait()
        shutil.rmtree(base, ignore_errors=True)


def _configuration(base: Path, version: str, port: int, tls: SelfSigned) -> str:
    new = version.startswith("2.4")
    passwords = (
        f"passdb passwd-file {{\n passwd_file_path = {base}/users\n}}\nuserdb passwd-file {{\n passwd_file_path = {base}/users\n}}\n"
        f"mail_driver = maildir\nmail_path = {base}/home/Maildir\nssl_server_cert_file = {tls.certificate}\nssl_server_key_file = {tls.key}\n"
        if new
        else f"passdb {{\n driver = passwd-file\n args = {base}/users\n}}\nuserdb {{\n driver = passwd-file\n args = {base}/users\n}}\n"
        f"mail_location = maildir:{base}/home/Maildir\nssl_cert = <{tls.certificate}\nssl_key = <{tls.key}\n"
    )
    number = version.split()[0]
    head = f"dovecot_config_version = {number}\ndovecot_storage_version = {number}\n" if new else ""
    return (
        f"{head}base_dir = {base}/run\nprotocols = imap\nlisten = 127.0.0.1\nlog_path = {base}/log\nssl = required\n"
        f"default_login_user = nobody\ndefault_internal_user = nobody\ndefault_internal_group = nogroup\nfirst_valid_uid = 1\n"
        f"service imap-login {{\n chroot =\n inet_listener imap {{\n  port = 0\n }}\n inet_listener imaps {{\n  port = {port}\n  ssl = yes\n }}\n}}\n"
        f"service anvil {{\n chroot =\n}}\n{passwords}"
    )
