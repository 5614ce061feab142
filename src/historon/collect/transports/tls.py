"""Is this the server it says it is? Certificates against a pinned fingerprint, a given authority, or the system's."""

import re
import ssl
from pathlib import Path
from typing import Any

from historon.base.errors import causes_of
from historon.base.tls import PinError, pinned_context
from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.interface import Target
from historon.estate import Source

__all__ = ["peer_context", "peer_verdict"]


def peer_context(source: Source, folder: Path) -> "ssl.SSLContext":
    """For connections to this source. CollectError when its authority cannot be read."""
    if source.certificate:
        return pinned_context(source.certificate)
    authority = folder / source.authority if source.authority else None
    try:
        return ssl.create_default_context(cafile=str(authority) if authority else None)
    except (OSError, ssl.SSLError) as exc:
        raise CollectError(FailureKind.SETUP, f"{authority}: not a file of certificates: {exc}") from exc


def peer_verdict(target: Target[Any], exc: BaseException) -> CollectError | None:
    """What is wrong with the source's certificate, if that is what an error comes from."""
    place = target.place
    causes = list(causes_of(exc))
    pin = next((one for one in causes if isinstance(one, PinError)), None)
    if pin:
        return CollectError(
            FailureKind.IDENTITY_CHANGED,
            f"THE CERTIFICATE HAS CHANGED: {place} shows {pin.shown}, pinned is {pin.pinned}",
            hint="was it renewed? If the change is unexplained, the connection may be intercepted. Nothing was sent.",
        )
    for one in causes:
        found = re.search(r"verify failed: (.+?)\s*(?:\(_ssl|$)", str(one))
        if found:
            return CollectError(
                FailureKind.IDENTITY,
                f"the certificate of {place} is not trusted: {found[1]}",
                hint=f"compare its fingerprint and pin it: historon sources pin {target.source.name}; "
                'or name its authority: authority = "ca.pem"',
            )
    wrong = next((one for one in causes if isinstance(one, ssl.SSLError) or "SSL" in str(one)), None)
    if wrong and "EOF" in str(wrong):
        return CollectError(FailureKind.UNREACHABLE, f"{place} ended the connection before TLS was agreed")
    if wrong:
        return CollectError(FailureKind.UNREACHABLE, f"{place} does not speak TLS correctly: {wrong}", again=False)
    return None
