"""Certificates known by their fingerprints: whoever shows another is not talked to."""

import hashlib
import hmac
import ssl
from typing import Any

__all__ = ["PinError", "certificate_fingerprint", "pinned_context"]


class PinError(ssl.SSLError):
    """Another certificate than the pinned one was shown; `shown` and `pinned` are their fingerprints."""

    def __init__(self, shown: str, pinned: str) -> None:
        super().__init__(f"the certificate is {shown}, not the pinned {pinned}")
        self.shown = shown
        self.pinned = pinned


def certificate_fingerprint(shown: bytes) -> str:
    """The SHA-256 of a certificate in DER, as it is pinned."""
    return f"SHA256:{hashlib.sha256(shown).hexdigest()}"


def pinned_context(pin: str) -> "ssl.SSLContext":
    """For connections to the one that has this certificate: `SHA256:` and hexadecimal digits, perhaps with colons.

    The pin alone decides, so that no authority need be read. It is checked inside the handshake, before anything is
    said; PinError ends the handshake.
    """
    pinned = "SHA256:" + pin.removeprefix("SHA256:").replace(":", "").lower()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    context.sslobject_class = _checking(ssl.SSLObject, pinned)
    context.sslsocket_class = _checking(ssl.SSLSocket, pinned)
    return context


def _checking(base: Any, pinned: str) -> Any:
    class Checking(base):  # type: ignore[misc]
        def do_handshake(self, *arguments: Any) -> None:
            super().do_handshake(*arguments)
            shown = certificate_fingerprint(self.getpeercert(binary_form=True) or b"")
            if not hmac.compare_digest(shown, pinned):
                raise PinError(shown, pinned)

    return Checking
