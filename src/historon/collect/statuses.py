"""What a server's status means (RFC 9110 section 15), in words, and what to do about it."""

from http import HTTPStatus

from historon.collect.failures import CollectError, FailureKind

__all__ = ["status_failure"]

_KINDS = {401: FailureKind.LOGIN, 403: FailureKind.PERMISSION}
# Those that may be over a moment later, where asking again changes nothing.
_PASSING = frozenset({408, 425, 502, 503, 504})
_CERTIFICATE = (b"SSL certificate", b"client certificate", b"TLS certificate")
_SESSION = (
    "try the account by hand; it is not tried again, as accounts lock. If a step before this one logged in well, the "
    "session has ended too early"
)
_ADVICE = {
    400: "compare the request with the documents of its interface",
    401: _SESSION,
    404: "is the path right for the release that it runs?",
    405: "is the method right (GET, POST)?",
    407: "a proxy stands between: let this machine reach it without one",
    410: "is the path right for the release that it runs?",
    413: "what is sent is too large for it",
    415: "it wants another content-type: name it in the step's headers",
    421: "it answers to another name: give that as the source's address",
    429: "it wants to be asked less often: lower at_once, or collect at another time",
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
        kind, hint = FailureKind.LOGIN, "it wants a client certificate: give the account a certificate and its key"
    absent = status in (HTTPStatus.NOT_FOUND, HTTPStatus.GONE)
    return CollectError(kind, f"it answers with status {_words(status)}", hint=hint, tail=tail, absent=absent)
