"""Requests over HTTPS."""

from typing import Any, ClassVar, Literal

from historon.estate.patterns import QuickPattern
from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses

__all__ = ["Download", "Https", "Request", "Upload"]


class Request(Clauses, frozen=True, kw_only=True):
    """What a request carries (RFC 9110)."""

    filled: ClassVar[tuple[str, ...]] = ("json", "form", "body", "headers")
    json: Any = None
    form: dict[str, str] | None = None
    body: str | None = None
    headers: dict[str, str] = {}


class Download(Request, frozen=True, kw_only=True):
    """The same, and by what a file is checked."""

    filled: ClassVar[tuple[str, ...]] = (*Request.filled, "checksum")
    checksum: str | None = None


class Upload(Clauses, frozen=True, kw_only=True):
    """How a part is sent: as the body, or as the file `field` of a form (RFC 7578), with these headers."""

    filled: ClassVar[tuple[str, ...]] = ("form", "headers")
    method: Literal["PUT", "POST", "PATCH"] = "PUT"
    field: str | None = None
    form: dict[str, str] = {}
    headers: dict[str, str] = {}

    def __post_init__(self) -> None:
        """A form has a field for the file."""
        if self.form and self.field is None:
            raise ValueError('form needs a field for the part (add field = "file")')


class Https(Procedure, frozen=True, kw_only=True):
    """`over = "https"`: requests (RFC 9110), below `base`, with an account by `auth`."""

    over: ClassVar[str] = "https"
    module: ClassVar[str] = "https"
    port: ClassVar[int] = 443
    by_certificate: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Request
    pulling: ClassVar[type[Clauses] | None] = Download
    putting: ClassVar[type[Clauses] | None] = Upload

    auth: Literal["none", "basic", "digest", "bearer"] = "none"
    base: str = ""
    login_page: QuickPattern = QuickPattern.parse(r"""(?i)<input[^>]+type=["']?password""")

    @property
    def needs_account(self) -> bool:
        """See Procedure: some pages are for everybody."""
        return self.auth != "none"

    @property
    def needs_user(self) -> bool:
        """See Procedure: a token (RFC 6750) says itself whose it is."""
        return self.auth != "bearer"

    def logs_in_with(self, key: str, *, has_key: bool, has_certificate: bool) -> bool:
        """See Procedure: a key is that of a client certificate (RFC 8446)."""
        return key != "agent" and has_key and has_certificate
