"""By what a server is known: the host key or certificate that it shows, before anything is said to it."""

import ssl
from dataclasses import dataclass

from msgspec.structs import replace

from historon.base.threads import apart
from historon.base.tls import certificate_fingerprint
from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.failures import CollectError, FailureKind
from historon.estate import Estate, Source
from historon.store import Store

__all__ = ["Identity", "shown_identity"]

_TIMEOUT_S = 20


@dataclass(frozen=True)
class Identity:
    """What a server shows: the key of the estate file that pins it, and its fingerprint."""

    setting: str
    algorithm: str
    fingerprint: str


async def shown_identity(estate: Estate, source: Source, store: Store, *, clock: Clock) -> Identity:
    """Ask a source for its host key or certificate. Raises CollectError when it cannot be reached, or has none."""
    procedure = estate.procedure_of(source)
    if procedure.by_certificate and source.address:
        return await apart(source.name, _certificate, source, procedure.port)
    if not procedure.over_ssh:
        raise CollectError(FailureKind.SETUP, f"{procedure.over} has no host key or certificate to pin")
    reach = Access(estate, store, clock, Workers())
    await reach.fetch_accounts([source])
    try:
        await reach.knock(replace(source, host_key=None))
    except CollectError as exc:
        if exc.offered is None or exc.hop:
            raise
        return Identity("host_key", exc.offered.algorithm, exc.offered.fingerprint)
    raise CollectError(FailureKind.IDENTITY, f"{source.name} showed no host key")


def _certificate(source: Source, port: int) -> Identity:
    port = source.port or port
    try:
        shown = ssl.get_server_certificate((source.address, port), timeout=_TIMEOUT_S)
    except (OSError, ValueError) as exc:
        raise CollectError(
            FailureKind.UNREACHABLE, f"{source.address} port {port}: {getattr(exc, 'strerror', None) or exc}"
        ) from exc
    return Identity("certificate", "X.509", certificate_fingerprint(ssl.PEM_cert_to_DER_cert(shown)))
