"""Getting in: a secret is given once, an account that is refused is spared, and keys and certificates of every kind."""

import socket
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import cast

import asyncssh
import pytest

from historon.collect.transports.interface import Account
from historon.collect.transports.ssh import _authentication
from historon.estate import Secret
from historon.standins.background import Background
from historon.standins.capstan import Capstan
from historon.standins.certificates import SelfSigned
from historon.standins.tidewall import Tidewall
from tests.conftest import EstateFolder, collect, describe_estate, sampled

_PROMPT = "prompt = '^\\S+##? ?$'\npager = '-- more --'"
_ELEVATE = """{ send = "elevate", answers = { 'password: ?$' = "{elevation}" } }, """
_KEEP = '{ keep = "list settings active", as = "active.cfg", ends_with = "end" }'


def _router_estate(estate: EstateFolder, router: Capstan, steps: str, tries: int = 3) -> EstateFolder:
    return describe_estate(
        estate,
        over="ssh-shell",
        steps=steps,
        procedure=f'{_PROMPT}\nstep_deadline = "10s"\ntries = {tries}',
        source=f'address = "127.0.0.1"\nport = {router.port}\ncredentials = "c"\nhost_key = "{router.fingerprint}"',
    )


@pytest.mark.parametrize("patience", [1, 3])
def test_a_wrong_elevation_password_is_typed_once(estate: EstateFolder, router: Capstan, patience: int) -> None:
    """Not three times a session, and not in three sessions."""
    router.patience = patience
    result = collect(_router_estate(estate, router, _ELEVATE + _KEEP), UP="wrong-nest")
    assert result.code == 3
    assert router.elevations_tried <= 2, "asked again, it is not typed again"
    assert "Historon does not repeat it, as accounts lock" in result.err
    assert "wrong-nest" not in result.said
    again = collect(_router_estate(estate, router, _ELEVATE + _KEEP))
    assert again.code == 0, again.said


def test_a_password_that_a_step_sends_is_sent_once_where_that_hangs_up(estate: EstateFolder, router: Capstan) -> None:
    router.patience = 3
    steps = """{ send = "elevate", prompt = 'password: ?$' }, { send = "{elevation}", prompt = 'password: ?$' }, """
    result = collect(_router_estate(estate, router, steps + '{ send = "{elevation}" }, ' + _KEEP), UP="wrong-nest")
    assert result.code == 3
    assert router.elevations_tried <= 3, "in one session, not in three"


def test_an_account_that_is_refused_is_spared(estate: EstateFolder, router: Capstan) -> None:
    """Thirty devices, one account, and its password was changed: the account must not lock."""
    source = f'address = "127.0.0.1"\nport = {router.port}\ncredentials = "c"\nhost_key = "{router.fingerprint}"'
    keep = _KEEP.replace('as = "', 'as = "{name}-', 1)
    assert "{name}" in keep
    more = "".join(f'[[sources]]\nname = "d{number}"\nprocedure = "p"\n{source}\n' for number in range(29))
    describe_estate(estate, over="ssh-shell", steps=keep, procedure=_PROMPT, source=source, more=more)
    result = collect(estate, PW="old-light")
    assert result.code == 3
    assert router.passwords_tried <= 8
    assert "not contacted: the account c was refused" in result.err
    assert "30 failed" in result.out
    assert "30 new" in collect(estate).out


KINDS = ("ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp521")
FORMATS = ("openssh", "pkcs8-pem", "pkcs1-pem")


@pytest.mark.parametrize("form", sampled(2, FORMATS))
@pytest.mark.parametrize("kind", sampled(1, KINDS))
def test_keys_with_a_passphrase_of_every_kind_are_read(kind: str, form: str) -> None:
    key = asyncssh.generate_private_key(kind)
    if form == "pkcs1-pem" and kind == "ssh-ed25519":
        pytest.skip("that form has no such keys")
    text = key.export_private_key(form, passphrase="rope-and-tar").decode()
    account = Account("u", key=Secret(text), passphrase=Secret("rope-and-tar"))
    (read,) = cast(list[asyncssh.SSHKey], _authentication(account)["client_keys"])
    assert read.public_data == key.public_data
    from historon.collect.failures import CollectError

    with pytest.raises(CollectError, match="the private key cannot be read"):
        _authentication(Account("u", key=Secret(text), passphrase=Secret("wrong")))


@pytest.fixture
def wall(tmp_path: Path) -> Iterator[tuple[Tidewall, SelfSigned]]:
    """A firewall that lets in who shows a certificate, and that certificate."""
    (tmp_path / "client").mkdir()
    client = SelfSigned.make(tmp_path / "client")
    device = Tidewall("wall", tmp_path / "wall", lambda: "<rules/>")
    device.clients = client.certificate
    device.start()
    yield device, client
    device.release.set()
    device.stop()


def test_a_client_certificate_is_shown_over_https(estate: EstateFolder, wall: tuple[Tidewall, SelfSigned]) -> None:
    device, client = wall
    steps = """{ send = "POST /api/session", json = { user = "{user}", password = "{password}" }, learn_secret = { token = "json:/session/token" } },
    { keep = "GET /api/export", headers = { x-tide-token = "{token}" }, as = "rules.xml" }"""
    steps = " ".join(steps.split())

    def write(account: str) -> EstateFolder:
        describe_estate(
            estate,
            over="https",
            steps=steps,
            source=f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\ncertificate = "{device.fingerprint}"',
        )
        file = estate.path / "historon.toml"
        file.write_text(file.read_text().replace("[procedures.p]", f"{account}\n[procedures.p]"))
        return estate

    assert "new" not in collect(write("")).said, "without one nobody is let in"
    key = estate.path / "keys" / "client.key"
    key.write_bytes(client.key.read_bytes())
    key.chmod(0o600)
    shown = f'key = "file:keys/client.key"\ncertificate = "{client.certificate}"'
    result = collect(write(shown))
    assert "new" in result.said, result.said
    assert not list((estate.path / "store" / "spool").iterdir()), "the key is left nowhere"
    alone = write('key = "file:keys/client.key"').run("status")
    assert "credentials.c.key: is used by none of its sources (over https)" in alone.err


class _OneSession(asyncssh.SSHServer):
    """A device that lets in whoever comes."""

    def begin_auth(self, username: str) -> bool:
        return False


def test_a_device_with_one_session_at_a_time_is_waited_for(estate: EstateFolder, background: Background) -> None:
    key = asyncssh.generate_private_key("ssh-ed25519")
    busy: list[object] = []

    async def serve(process: "asyncssh.SSHServerProcess[str]") -> None:
        if busy:
            process.exit(255)
            return
        busy.append(process)
        process.stdout.write(f"{process.command}\n")
        process.exit(0)
        await process.wait_closed()
        busy.clear()

    async def start() -> asyncssh.SSHAcceptor:
        return await asyncssh.create_server(_OneSession, "127.0.0.1", 0, server_host_keys=[key], process_factory=serve)

    server = background.run(start())
    steps = ", ".join(f'{{ keep = "show {number}", as = "{number}.txt" }}' for number in range(5))
    describe_estate(
        estate,
        over="ssh-exec",
        steps=steps,
        source=f'address = "127.0.0.1"\nport = {server.get_port()}\ncredentials = "c"\nhost_key = "{key.get_fingerprint()}"',
    )
    result = collect(estate)
    background.run(_close(server))
    assert "new" in result.said, result.said


async def _close(server: asyncssh.SSHAcceptor) -> None:
    server.close()
    await server.wait_closed()


@pytest.mark.parametrize("kind", ["ssh-rsa", "kex"])
def test_a_device_with_nothing_but_an_old_algorithm_is_told_by_its_name(
    estate: EstateFolder, background: Background, kind: str
) -> None:
    key = asyncssh.generate_private_key("ssh-rsa" if kind == "ssh-rsa" else "ssh-ed25519")
    options = {"signature_algs": ["ssh-rsa"]} if kind == "ssh-rsa" else {"kex_algs": ["diffie-hellman-group14-sha1"]}

    async def serve() -> asyncssh.SSHAcceptor:
        if kind == "ssh-rsa":
            key.sig_algorithms = (b"ssh-rsa",)
        return await asyncssh.create_server(_OneSession, "127.0.0.1", 0, server_host_keys=[key], **options)

    server = background.run(serve())
    describe_estate(
        estate,
        over="ssh-exec",
        steps='{ keep = "x", as = "x" }',
        procedure="tries = 5",
        source=f'address = "127.0.0.1"\nport = {server.get_port()}\ncredentials = "c"\nhost_key = "{key.get_fingerprint()}"',
    )
    result = collect(estate)  # either side may be the first to hang up, before we have read why
    background.run(_close(server))
    named = "ssh-rsa" if kind == "ssh-rsa" else "diffie-hellman-group14-sha1"
    assert f'legacy = ["{named}"]' in result.err, result.said


# ---- what ends before it could refuse anything -----------------------------------------------------------------------


def _closing(hello: bytes) -> Iterator[int]:
    """A port that says a few words to everybody, and closes."""

    def serve(server: socket.socket) -> None:
        with suppress(OSError):
            while True:
                connection, _ = server.accept()
                with connection:
                    connection.sendall(hello)

    with socket.create_server(("127.0.0.1", 0)) as server:
        threading.Thread(target=serve, args=[server], daemon=True).start()
        yield server.getsockname()[1]
        server.shutdown(socket.SHUT_RDWR)


@pytest.mark.parametrize(
    ("over", "more", "hello"),
    [
        ("ssh-shell", 'host_key = "SHA256:x"', b""),
        ("ssh-exec", 'host_key = "SHA256:x"', b"SSH-2.0-x\r\n"),
        ("telnet", "", b""),
        ("telnet", "", b"login: "),
        ("mailbox", "TLS", b""),
        ("https", "TLS", b""),
    ],
)
def test_a_daemon_that_closes_refuses_no_log_in(
    estate: EstateFolder, tmp_path: Path, over: str, more: str, hello: bytes
) -> None:
    if more == "TLS":
        more = f'certificate = "{SelfSigned.make(tmp_path, "x").fingerprint}"'
    elif more:
        more = more.replace("x", "A" * 43)
    steps = {"mailbox": '{ pull = "*" }', "https": '{ keep = "/", as = "x" }'}.get(over, '{ keep = "x", as = "x" }')
    prompt = "prompt = '#$'" if over in ("telnet", "ssh-shell") else ""
    for port in _closing(hello):
        source = f'address = "127.0.0.1"\nport = {port}\ncredentials = "c"\n{more}'
        describe_estate(estate, over=over, steps=steps, procedure=f"tries = 2\n{prompt}", source=source)
        result = collect(estate)
        assert result.code == 3
        assert "tried 2 times" in result.err, result.said
        assert "refuses" not in result.said
        assert "accounts lock" not in result.said
