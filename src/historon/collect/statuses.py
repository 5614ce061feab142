"""What a server's status means (RFC 9110 section 15), in words, and what to do about it."""

from http import HTTPStatus

from historon.collect.failures import CollectError, FailureKind

__all__ = ["status_failure"]

_KINDS = {401: FailureKind.LOGIN, 403: FailureKind.PERMISSION}
# Those that may be over a moment later, where asking again changes nothing.
_PASSING = frozenset({408, 425, 502, 503, 504})
_CERTIFICATE = (b"SSL certificate", b"client certificate", b"TLS certificate")
_SESSION = (
    "log in by hand with this account; Historon does not repeat it, as accounts lock. If an earlier step "
    "logged in, the session ended too early"
)
_ADVICE = {
    400: "compare the request with the documents of its interface",
    401: _SESSION,
    404: "check the path: is it right for the release that it runs?",
    405: "check the method (GET, POST)",
    407: "there is a proxy between: let this machine reach it without one",
    410: "check the path: is it right for the release that it runs?",
    413: "the request is too large for it",
    415: "it expects another content-type: set it in the step's headers",
    421: "it expects another host name: set that as the source's address",
    429: "it allows fewer requests: lower at_once, or collect at another time",
}
_SERVER = "it is out of order or busy: look at its own log"


def _words(status: int) -> str:
    """The status with its name, such as `404 (Not Found)`."""
    try:
        return f"{status} ({HTTPStatus(status).phrase})"
    except ValueError:
        return str(status)


def status_failure(status: int, content: bytes = b"", *, safe: bool, tail: bytes = b"") -> CollectError:
    """The failure that a status tells; `safe` says that asking once more changes nothing on the server."""
    kind = _KINDS.get(status, FailureKind.STEP)
    hint = _ADVICE.get(status, _SERVER if status >= HTTPStatus.INTERNAL_SERVER_ERROR else "")
    if status in _PASSING and safe:
        kind = FailureKind.REFUSED
    if status == HTTPStatus.BAD_REQUEST and any(words in content for words in _CERTIFICATE):
        kind, hint = FailureKind.LOGIN, "it expects a client certificate: give the account a certificate and its key"
    absent = status in (HTTPStatus.NOT_FOUND, HTTPStatus.GONE)
    return CollectError(kind, f"the server answered with status {_words(status)}", hint=hint, tail=tail, absent=absent)
