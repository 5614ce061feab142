"""A request to an address: JSON, or what a template makes of it, signed with a secret (HMAC-SHA256, RFC 2104)."""

import hashlib
import hmac
import ssl
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, ClassVar

import msgspec

from historon.base.errors import causes_of
from historon.base.quantities import size_text
from historon.base.tls import PinError
from historon.estate import Channel, Estate, Pattern, SecretError, SecretRef, check_trust
from historon.notices.channels.interface import LONGEST_ANSWER, TIMEOUT_S, NoticeError, Sent, as_data, trusting
from historon.notices.rendering import TemplateError, own_template, rendered

if TYPE_CHECKING:
    from historon.notices.letters import Letter

__all__ = ["WebhookChannel", "request", "send"]

_LOOKED_AT = 65_536  # bytes of an answer


class WebhookChannel(Channel, frozen=True, kw_only=True):
    """An address that is sent a request: JSON, or what a template makes of it, signed with a secret (RFC 2104)."""

    kind: ClassVar[str] = "webhook"

    url: SecretRef
    secret: SecretRef | None = None
    template: str | None = None
    content_type: str = "application/json"
    check: Pattern | None = None
    certificate: str | None = None
    authority: str | None = None

    def __post_init__(self) -> None:
        """One way to trust the other side."""
        check_trust(self.certificate, self.authority)

    @property
    def goes_to(self) -> str:
        return f"the address in {self.url}"

    @property
    def reads(self) -> Mapping[str, str | None]:
        return {"template": self.template, "authority": self.authority}

    @property
    def secrets(self) -> Sequence[SecretRef | None]:
        return self.url, self.secret


def send(channel: WebhookChannel, letter: "Letter", estate: Estate, at: datetime, _remaining: Sequence[str]) -> Sent:
    """POST the notice; its body is signed with the channel's secret."""
    body = _body(channel, as_data(letter, estate, at), estate)
    headers = {"content-type": channel.content_type}
    if channel.secret:
        key = _resolved("webhook", channel.secret, estate).encode()
        headers["historon-signature"] = "sha256=" + hmac.new(key, body, hashlib.sha256).hexdigest()
    status, answer = request(
        "webhook",
        "POST",
        channel.url,
        estate,
        trust=partial(trusting, channel.certificate, channel.authority, estate),
        body=body,
        headers=headers,
    )
    if channel.check is not None and not channel.check.compiled.search(answer):
        said = " ".join(answer.decode("utf-8", "replace").split())[:LONGEST_ANSWER]
        hint = "the receiver took the request and did not confirm the notice"
        raise NoticeError(f"webhook: the answer does not match check: {said or 'it is empty'}", hint=hint)
    signed = ", signed" if channel.secret else ""
    return Sent(
        f"answered with status {status}",
        [f"> POST {channel.url}: {size_text(len(body))} of {channel.content_type}{signed}", f"< status {status}"],
    )


def request(
    what: str,
    method: str,
    url: SecretRef,
    estate: Estate,
    *,
    trust: "Callable[[], ssl.SSLContext] | None" = None,
    body: bytes = b"",
    headers: Mapping[str, str] | None = None,
) -> tuple[int, bytes]:
    """Ask an address; returns the status of the answer and how it begins.

    Raises NoticeError, which never shows the address: it may be secret.
    """
    import httpx  # imported where it is used: few estates have such a channel

    address = _resolved(what, url, estate).strip()
    follow = method == "GET"
    if address.lower().startswith("http://") and not follow:
        verify: ssl.SSLContext | bool = ssl.SSLContext(
            ssl.PROTOCOL_TLS_CLIENT
        )  # no certificate is met: it trusts nobody
    else:
        verify = trust() if trust else True
    try:
        with (
            httpx.Client(verify=verify, timeout=TIMEOUT_S, follow_redirects=follow) as client,
            client.stream(method, address, content=body, headers={"user-agent": "historon", **(headers or {})}) as got,
        ):
            said = bytearray()
            for piece in got.iter_bytes():
                said += piece
                if len(said) > _LOOKED_AT:
                    break
            status, well = got.status_code, got.is_success
    except (httpx.InvalidURL, httpx.UnsupportedProtocol) as exc:
        raise NoticeError(f"{what}: this is not an address", hint="write an address that begins with https://") from exc
    except httpx.HTTPError as exc:
        pin = any(isinstance(one, PinError) for one in causes_of(exc))
        why = "its certificate is not the pinned one" if pin else f"no answer ({type(exc).__name__})"
        raise NoticeError(f"{what}: {why}", hint="check the address, and whether this machine can reach it") from exc
    if not well:
        raise NoticeError(f"{what}: answered with status {status}", hint="check whether the address is still valid")
    return status, bytes(said[:_LOOKED_AT])


def _resolved(what: str, reference: SecretRef, estate: Estate) -> str:
    try:
        return reference.resolve(estate.folder).reveal()
    except SecretError as exc:
        raise NoticeError(f"{what}: {exc.message}", hint=exc.hint) from exc


def _body(channel: WebhookChannel, data: dict[str, object], estate: Estate) -> bytes:
    if channel.template is None:
        return msgspec.json.encode(data)
    try:
        return rendered(own_template(estate, channel.template), data).encode()
    except TemplateError as exc:
        raise NoticeError(f"webhook: the template {channel.template}: {exc.message}", hint=exc.hint) from exc
