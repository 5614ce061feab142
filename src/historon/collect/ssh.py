"""Connecting over SSH: is it the right device, and does it let us in? What all SSH transports have in common."""

import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.host_keys import KeyCheck, Known
from historon.collect.transport import Account, Target

__all__ = ["connect"]

_CONNECT_S = 20
_LOGIN_S = 30
# AES-GCM in hardware first; then what else is sound today.
_CIPHERS = [
    "aes128-gcm@openssh.com", "aes256-gcm@openssh.com", "chacha20-poly1305@openssh.com",
    "aes256-ctr", "aes192-ctr", "aes128-ctr",
]  # fmt: skip


@asynccontextmanager
async def connect(target: Target, known: Known | None) -> AsyncIterator[asyncssh.SSHClientConnection]:
    """Connect, check the host key, and log in. Raises CollectError; nothing is sent to a device that is not known."""
    check = KeyCheck(target.source, known)
    address, port = target.source.address, target.source.port or 22
    try:
        connection = await asyncssh.connect(
            address, port, client_factory=lambda: check, known_hosts=check.trusted, encryption_algs=_CIPHERS,
            config=None, agent_path=None, connect_timeout=_CONNECT_S, login_timeout=_LOGIN_S,
            **_authentication(target.account),
        )  # fmt: skip
    except (OSError, asyncssh.Error, TimeoutError) as exc:
        raise check.verdict or _connect_failure(exc, f"{address} port {port}") from exc
    async with connection:
        yield connection


def _authentication(account: Account | None) -> dict[str, object]:
    assert account is not None  # noqa: S101 (checked when the estate file is read)
    options: dict[str, object] = {"username": account.user, "client_keys": None}
    if account.password:
        options["password"] = account.password.reveal()
    if account.key:
        passphrase = account.passphrase.reveal() if account.passphrase else None
        try:
            options["client_keys"] = [asyncssh.import_private_key(account.key.reveal(), passphrase)]
        except asyncssh.KeyImportError as exc:
            raise CollectError(FailureKind.SETUP, f"the private key cannot be read: {exc}") from exc
    return options


def _connect_failure(exc: BaseException, place: str) -> CollectError:
    """Asyncssh's and the operating system's errors as ours, the most specific first."""
    if isinstance(exc, asyncssh.PermissionDenied):
        return CollectError(FailureKind.LOGIN, f"{place} refuses the log-in: {exc.reason}")
    if isinstance(exc, asyncssh.KeyExchangeFailed):
        return CollectError(
            FailureKind.UNREACHABLE,
            f"{place} and Historon have no algorithm in common: {exc.reason}",
            hint="the device is old, or hardened beyond what is offered",
        )
    if isinstance(exc, asyncssh.HostKeyNotVerifiable):
        return CollectError(FailureKind.IDENTITY, f"{place}: {exc.reason}")
    if isinstance(exc, TimeoutError):
        return CollectError(FailureKind.UNREACHABLE, f"{place} does not answer within {_CONNECT_S}s")
    if isinstance(exc, (asyncssh.Error, ConnectionResetError, BrokenPipeError)):
        reason = exc.reason if isinstance(exc, asyncssh.Error) else _reason(exc)
        return CollectError(FailureKind.UNREACHABLE, f"{place} ended the connection: {reason}")
    return CollectError(FailureKind.UNREACHABLE, f"{place}: {_reason(exc)}")


def _reason(exc: BaseException) -> str:
    """The operating system's own words; asyncio puts others in front of them."""
    if isinstance(exc, OSError) and exc.errno and exc.errno > 0:
        return os.strerror(exc.errno).lower()
    return getattr(exc, "strerror", None) or str(exc)
