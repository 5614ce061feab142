"""Is this the server it says it is? Certificates against a pinned fingerprint, a given authority, or the system's."""

import hashlib
import hmac
import re
import ssl
from pathlib import Path
from typing import Any

from historon.collect.failures import CollectError, FailureKind
from historon.estate import Source

__all__ = ["Peer", "certificate_fingerprint"]


def certificate_fingerprint(shown: bytes) -> str:
    """The SHA-256 of a certificate in DER, as it is pinned."""
    return f"SHA256:{hashlib.sha256(shown).hexdigest()}"


class _PinError(ssl.SSLError):
    """Another certificate than the pinned one."""


class Peer:
    """What is known of a server, and what it showed."""

    def __init__(self, source: Source, folder: Path) -> None:
        self._source = source
        self._folder = folder
        self._pinned = (source.certificate or "").removeprefix("SHA256:").replace(":", "").lower()
        self._shown = ""

    def context(self) -> ssl.SSLContext:
        """For connections to this server. A pin is checked inside the handshake: before anything is said."""
        if self._pinned:
            return self._pinning_context()
        authority = self._folder / self._source.authority if self._source.authority else None
        try:
            return ssl.create_default_context(cafile=str(authority) if authority else None)
        except (OSError, ssl.SSLError) as exc:
            raise CollectError(FailureKind.SETUP, f"{authority}: not a file of certificates: {exc}") from exc

    def _pinning_context(self) -> ssl.SSLContext:
        """The pin alone decides, so that no authorities need be read."""
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        context.sslobject_class = self._checking(ssl.SSLObject)
        context.sslsocket_class = self._checking(ssl.SSLSocket)
        return context

    def _checking(self, base: Any) -> Any:
        peer = self

        class Checking(base):  # type: ignore[misc]
            def do_handshake(self, *arguments: Any) -> None:
                super().do_handshake(*arguments)
                peer._check(self.getpeercert(binary_form=True) or b"")

        return Checking

    def _check(self, shown: bytes) -> None:
        self._shown = certificate_fingerprint(shown)
        if not hmac.compare_digest(self._shown.removeprefix("SHA256:"), self._pinned):
            raise _PinError("another certificate than the pinned one")

    def verdict(self, exc: BaseException | None) -> CollectError | None:
        """What is wrong with the certificate, if that is what an error comes from."""
        place = f"{self._source.address} port {self._source.port or 443}"
        while exc is not None:
            if isinstance(exc, _PinError) or (self._pinned and "pinned one" in str(exc)):
                return CollectError(
                    FailureKind.IDENTITY,
                    f"THE CERTIFICATE HAS CHANGED: {place} shows {self._shown}, pinned is SHA256:{self._pinned}",
                    hint="was it renewed? If nobody knows why, somebody may be listening: nothing was sent to it",
                )
            if isinstance(exc, ssl.SSLCertVerificationError) or "CERTIFICATE_VERIFY_FAILED" in str(exc):
                found = re.search(r"verify failed: (.+?)\s*(?:\(_ssl|$)", str(exc))
                reason = getattr(exc, "verify_message", None) or (found[1] if found else str(exc))
                return CollectError(
                    FailureKind.IDENTITY,
                    f"the certificate of {place} is not trusted: {reason}",
                    hint=f"compare its fingerprint and pin it: historon sources pin {self._source.name}; "
                    'or name its authority: authority = "ca.pem"',
                )
            if isinstance(exc, ssl.SSLError) or "SSL" in str(exc):
                return CollectError(FailureKind.UNREACHABLE, f"{place} speaks no TLS as it should: {exc}", again=False)
            exc = exc.__cause__ or exc.__context__
        return None
