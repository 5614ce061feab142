"""Connecting over SSH: is it the right device, and does it let us in? What all SSH transports have in common."""

import asyncio
import os
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Sequence
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from typing import Any, TypeVar

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.host_keys import KeyCheck, Known
from historon.collect.transports.interface import Account, Target
from historon.estate import LEGACY

__all__ = ["Channels", "connect"]

_CHANNEL_PAUSES_S = (0.1, 0.4, 1.5)  # before a refused channel is asked for again
_CLOSE_S = 5
_CONNECT_S = 20
_LOGIN_S = 30
_JUMP_PORT = 22
# AES-GCM in hardware first; then what else is sound today.
_CIPHERS = [
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "chacha20-poly1305@openssh.com",
    "aes256-ctr",
    "aes192-ctr",
    "aes128-ctr",
]
# The quick ones first; group exchange costs half a second of calculation (RFC 9142 section 4 for what is sound).
_KEY_EXCHANGES = [
    "curve25519-sha256",
    "curve25519-sha256@libssh.org",
    "ecdh-sha2-nistp256",
    "ecdh-sha2-nistp384",
    "ecdh-sha2-nistp521",
    "mlkem768x25519-sha256",
    "diffie-hellman-group14-sha256",
    "diffie-hellman-group16-sha512",
    "diffie-hellman-group18-sha512",
    "diffie-hellman-group-exchange-sha256",
]
_MACS = [
    "hmac-sha2-256-etm@openssh.com",
    "hmac-sha2-512-etm@openssh.com",
    "umac-128-etm@openssh.com",
    "hmac-sha2-256",
    "hmac-sha2-512",
    "umac-128@openssh.com",
]
# By family: a device may have a key of each.
_HOST_KEYS = {
    "ed25519": ["ssh-ed25519"],
    "ecdsa": ["ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521"],
    "rsa": ["rsa-sha2-512", "rsa-sha2-256"],
}
C = TypeVar("C")
_OPTIONS = {"kex": "kex_algs", "host key": "server_host_key_algs", "cipher": "encryption_algs", "mac": "mac_algs"}


@asynccontextmanager
async def connect(
    target: Target[Any], known: Known | None, *, strangers: bool = False
) -> AsyncIterator[asyncssh.SSHClientConnection]:
    """Connect, check the host key, and log in; through a jump host where the source has one.

    Raises CollectError; nothing is sent to a device that is not known. To `strangers` every source is one: what is
    known counts for jump hosts alone.
    """
    source, account = target.source, target.login
    at = (source.address, target.port)
    check = KeyCheck(source.host_key, None if strangers else known)
    if target.hop is None:
        connection = await _connected(at, check, account, source.legacy)
        async with connection:
            _note_key(target, connection)
            yield connection
        return
    jump = target.hop.jump
    try:
        first = await _connected(
            (jump.address, jump.port or _JUMP_PORT), KeyCheck(jump.host_key, known), target.hop.account, jump.legacy
        )
    except CollectError as exc:
        exc.hop = target.hop.name
        exc.message = f"jump host {exc.hop}: {exc.message}"
        raise
    async with first:
        connection = await _connected(at, check, account, source.legacy, tunnel=first)
        async with connection:
            _note_key(target, connection)
            yield connection


def _note_key(target: Target[Any], connection: asyncssh.SSHClientConnection) -> None:
    key = connection.get_server_host_key()
    target.shown.host_key = key.get_fingerprint() if key else ""


class Channels:
    """Channels over a connection, one after another; over a new one, where the device takes no second channel."""

    def __init__(
        self,
        connection: asyncssh.SSHClientConnection,
        reconnect: Callable[[], Awaitable[asyncssh.SSHClientConnection]],
    ) -> None:
        self.connection = connection
        self._reconnect = reconnect

    @classmethod
    @asynccontextmanager
    async def over(cls, target: Target[Any], known: Known | None) -> AsyncIterator["Channels"]:
        """Connect as `connect` does, and close all connections in the end."""
        async with AsyncExitStack() as stack:

            async def connection() -> asyncssh.SSHClientConnection:
                return await stack.enter_async_context(connect(target, known))

            yield cls(await connection(), connection)

    async def opened(self, opening: Callable[[asyncssh.SSHClientConnection], Awaitable[C]]) -> C:
        """A new channel. A device that allows one at a time may need a moment after the last one was closed."""
        for pause in _CHANNEL_PAUSES_S:
            try:
                return await opening(self.connection)
            except asyncssh.ChannelOpenError:
                await asyncio.sleep(pause)
        try:
            return await opening(self.connection)
        except asyncssh.ChannelOpenError:
            self.connection = await self._reconnect()  # some take one session a connection, and no more
            return await opening(self.connection)

    async def closed(self, channel: asyncssh.SSHClientProcess[bytes] | asyncssh.SFTPClient) -> None:
        """Wait until a channel is closed at both ends, if that does not take long."""
        with suppress(TimeoutError, asyncssh.Error, OSError):
            async with asyncio.timeout(_CLOSE_S):
                await channel.wait_closed()


async def _connected(
    at: tuple[str, int],
    check: KeyCheck,
    account: Account,
    legacy: Iterable[str],
    tunnel: asyncssh.SSHClientConnection | None = None,
) -> asyncssh.SSHClientConnection:
    """One log-in. Where the key is pinned, a device that shows another of its keys is asked for the next kind."""
    families = check.preferred(_HOST_KEYS, *at)
    while True:
        try:
            return await asyncssh.connect(
                *at,
                tunnel=tunnel or (),
                client_factory=lambda: check,
                known_hosts=check.trusted,
                config=None,
                connect_timeout=_CONNECT_S,
                login_timeout=_LOGIN_S,
                **_algorithms(legacy, families),
                **_authentication(account),
            )
        except (OSError, asyncssh.Error, TimeoutError) as exc:
            shown = next((family for family in families if check.shown_algorithm in _HOST_KEYS[family]), None)
            shown = shown or ("rsa" if check.shown_algorithm == "ssh-rsa" and "rsa" in families else None)
            if not (
                check.pin_mismatch and shown and len(families) > 1 and not isinstance(exc, asyncssh.KeyExchangeFailed)
            ):
                old = await _old_host_keys(exc, at, tunnel)
                raise check.verdict or _connect_failure(exc, f"{at[0]} port {at[1]}", old) from exc
            families = [family for family in families if family != shown]
            check.shown_algorithm = ""


def _algorithms(legacy: Iterable[str], families: Iterable[str]) -> dict[str, Any]:
    """What is offered; `legacy` algorithms, where a source allows them, behind everything else."""
    options: dict[str, list[str]] = {
        "kex_algs": [*_KEY_EXCHANGES],
        "encryption_algs": [*_CIPHERS],
        "mac_algs": [*_MACS],
        "server_host_key_algs": [name for family in families for name in _HOST_KEYS[family]],
    }
    for name in legacy:
        options[_OPTIONS[LEGACY[name]]].append(name)
    return options


def _authentication(account: Account) -> dict[str, object]:
    options: dict[str, object] = {"username": account.user, "client_keys": None}
    if not account.agent:
        options["agent_path"] = None
    elif not account.key:
        options.pop("client_keys")  # asyncssh then asks the agent for its keys
        options["client_keys"] = ()
    if account.password:
        options["password"] = account.password.reveal()
    if account.key:
        passphrase = account.passphrase.reveal() if account.passphrase else None
        try:
            key = asyncssh.import_private_key(account.key.reveal(), passphrase)
            if account.certificate:
                options["client_keys"] = [(key, asyncssh.read_certificate(str(account.certificate)))]
            else:
                options["client_keys"] = [key]
        except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError, OSError) as exc:
            what = "certificate" if isinstance(exc, OSError) else "private key"
            raise CollectError(FailureKind.SETUP, f"the {what} cannot be read: {exc}") from exc
    return options


async def _old_host_keys(
    exc: BaseException, at: tuple[str, int], tunnel: asyncssh.SSHClientConnection | None
) -> list[str]:
    """Where no host key is of a kind that is offered: which old kinds the device has, as its refusal does not say."""
    if not isinstance(exc, asyncssh.KeyExchangeFailed) or "host key" not in exc.reason:
        return []
    found = []
    for name in (name for name, kind in LEGACY.items() if kind == "host key"):
        with suppress(asyncssh.Error, OSError, TimeoutError):
            async with asyncio.timeout(_LOGIN_S):
                shown = await asyncssh.get_server_host_key(
                    *at, tunnel=tunnel or (), server_host_key_algs=[name], kex_algs=[*_KEY_EXCHANGES], config=None
                )
            found += [name] if shown else []
    return found


def _connect_failure(exc: BaseException, place: str, old: Sequence[str] = ()) -> CollectError:
    """Asyncssh's and the operating system's errors as ours, the most specific first."""
    refused = isinstance(exc, asyncssh.DisconnectError) and "authentication" in exc.reason.lower()
    if refused or isinstance(exc, asyncssh.PermissionDenied):
        return CollectError(FailureKind.LOGIN, f"{place} refused the log-in: {getattr(exc, 'reason', exc)}")
    if isinstance(exc, asyncssh.KeyExchangeFailed):
        return CollectError(
            FailureKind.UNREACHABLE,
            f"{place} and Historon have no algorithm in common: {exc.reason}",
            hint=_legacy_advice(" ".join([exc.reason, *old])),
            again=False,
        )
    if isinstance(exc, asyncssh.HostKeyNotVerifiable):
        return CollectError(FailureKind.IDENTITY, f"{place}: {exc.reason}")
    if isinstance(exc, TimeoutError):
        return CollectError(FailureKind.UNREACHABLE, f"{place} timed out after {_CONNECT_S}s")
    if isinstance(exc, ConnectionRefusedError):
        return CollectError(FailureKind.REFUSED, f"{place}: connection refused")
    if isinstance(exc, asyncssh.ChannelOpenError):
        return CollectError(FailureKind.UNREACHABLE, f"the jump host cannot reach {place}: {exc.reason}")
    if isinstance(exc, (asyncssh.Error, ConnectionResetError, BrokenPipeError)):
        reason = exc.reason if isinstance(exc, asyncssh.Error) else _reason(exc)
        return CollectError(FailureKind.UNREACHABLE, f"{place} ended the connection: {reason}")
    return CollectError(FailureKind.UNREACHABLE, f"{place}: {_reason(exc)}")


def _legacy_advice(reason: str) -> str:
    """What to do about a device whose algorithms are too old, or too new."""
    old = [name for name in LEGACY if name in reason.replace(",", " ").split()]
    if not old:
        return "the device accepts only algorithms that Historon does not offer; enable one more on the device"
    listed = ", ".join(f'"{name}"' for name in old)
    return f"update the device; if that is impossible, allow its algorithms for this source only: legacy = [{listed}]"


def _reason(exc: BaseException) -> str:
    """The operating system's own words; asyncio puts others in front of them."""
    if isinstance(exc, OSError) and exc.errno and exc.errno > 0:
        return os.strerror(exc.errno).lower()
    return getattr(exc, "strerror", None) or str(exc)
