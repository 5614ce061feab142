"""Requests over HTTPS (RFC 9110): pages and programming interfaces, with cookies, tokens and downloads."""

import asyncio
import json
import re
import ssl
import tempfile
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import TYPE_CHECKING, Any, ClassVar, Literal
from urllib.parse import unquote

from historon.base.errors import causes_of
from historon.collect.failures import CollectError, FailureKind
from historon.collect.statuses import status_failure
from historon.collect.transports.interface import TAIL, Answer, Origin, Session, Target
from historon.collect.transports.selecting import check_sum
from historon.collect.transports.spooling import Spool
from historon.collect.transports.tls import peer_context, peer_verdict
from historon.estate import Clauses, Keeping, Procedure, Pull, Put, QuickPattern, Said, Saying, describe
from historon.store import Part

if TYPE_CHECKING:  # it takes a tenth of a second: it is imported where a session begins
    import httpx

__all__ = ["Download", "Https", "Request", "Upload", "open_session"]

_CONNECT_S = 20
_MOST_REDIRECTS = 5
_MOST_WAITS = 5
_SAFE = {"GET", "HEAD", "OPTIONS"}  # RFC 9110 section 9.2.1
_METHODS = {*_SAFE, "POST", "PUT", "PATCH", "DELETE"}
_REDIRECTS = {301, 302, 303, 307, 308}
_WAIT_S = 5.0


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


@asynccontextmanager
async def open_session(target: Target[Https], _known: object = None) -> AsyncIterator[Session[Https]]:
    """A client with its cookies; the first request connects."""
    import httpx

    host = target.source.address
    authority = f"[{host}]" if ":" in host else host
    base = f"https://{authority}:{target.port}"
    trusted = peer_context(target.source, target.folder)
    _show_certificate(trusted, target)
    async with httpx.AsyncClient(
        base_url=base,
        verify=trusted,
        auth=_authentication(target),
        trust_env=False,
        http2=False,
        timeout=httpx.Timeout(None, connect=_CONNECT_S),
        headers={"user-agent": "historon", "accept": "*/*"},
    ) as client:
        yield _HttpsSession(target, client)


def _show_certificate(context: "ssl.SSLContext", target: Target[Https]) -> None:
    """Be known by a client certificate (RFC 8446 section 4.4.2), where the account has one."""
    account = target.account
    if account is None or account.key is None or account.certificate is None:
        return
    passphrase = account.passphrase.reveal() if account.passphrase else ""  # empty: nobody is asked for one
    target.spool.mkdir(mode=0o700, exist_ok=True)
    # OpenSSL takes the key from a file alone: a nameless one would do, but not on every system.
    with tempfile.NamedTemporaryFile(dir=target.spool) as file:
        file.write(account.key.reveal().encode())
        file.flush()
        try:
            context.load_cert_chain(account.certificate, file.name, passphrase)
        except (OSError, ssl.SSLError, ValueError) as exc:
            message = f"the account's certificate and key cannot be used: {exc}"
            raise CollectError(FailureKind.SETUP, message, hint="both must be PEM files, and belong together") from exc


def _authentication(target: Target[Https]) -> "httpx.Auth | Callable[[httpx.Request], httpx.Request] | None":
    """Basic (RFC 7617), digest (RFC 7616), or a bearer token (RFC 6750), which is the account's password."""
    import httpx

    account, kind = target.account, target.procedure.auth
    if account is None or kind == "none":
        return None
    password = account.password.reveal() if account.password else ""
    if kind == "bearer":
        return partial(_with_token, password)
    if kind == "basic":
        return httpx.BasicAuth(account.user, password)
    return httpx.DigestAuth(account.user, password)


def _with_token(token: str, request: "httpx.Request") -> "httpx.Request":
    request.headers["authorization"] = f"Bearer {token}"
    return request


class _HttpsSession(Session[Https]):
    def __init__(self, target: Target[Https], client: "httpx.AsyncClient") -> None:
        super().__init__(target)
        self._client = client

    def changes_nothing(self, what: Said) -> bool:
        """See Session: a safe method changes nothing (RFC 9110 section 9.2.1)."""
        return isinstance(what, str) and _request_line(what)[0] in _SAFE

    async def say(self, what: str, step: Saying[Request]) -> Answer:
        """Make a request, `GET /path`; the method may be left out. A log-in page is a failure where it is kept."""
        spool = self.spool(step)
        head, _ = await self._exchange(_request_line(what), step.how.headers, _content(step.how), spool)
        answer = _whole(head, spool)
        self.origin = Origin("", _last_modified(answer.headers))
        self._look_for_login_page(answer, step)
        return answer

    async def pull(self, path: str, name: str | None, step: Pull[Download]) -> Sequence[Part]:
        """Download; without a name of its own the part is called as the server suggests, whatever folder it names."""
        spool = self.spool(step)
        answer, url = await self._exchange(_request_line(path), step.how.headers, _content(step.how), spool)
        called = _suggested(answer.headers, url)
        self.origin = Origin(called, _last_modified(answer.headers))
        part = spool.part(name or called)
        if answer.status != 200:
            safe = _request_line(path)[0] in _SAFE
            raise status_failure(answer.status or 0, part.edges, safe=safe, tail=part.edges[-TAIL:])
        self._look_for_login_page(Answer(part.edges[: 2**16], status=200, headers=answer.headers), step)
        if step.how.checksum:
            check_sum(part, step.how.checksum, path)
        return [part]

    def _look_for_login_page(self, answer: Answer, step: Saying[Request] | Pull[Download]) -> None:
        """A web application that forgot us, or never let us in, answers with its log-in page and status 200."""
        asked_in = isinstance(step, Keeping) or (step.verb == "send" and step.how.form is not None)
        kind = answer.headers.get("content-type", "").partition(";")[0].strip()
        if asked_in and kind in ("text/html", "") and self._procedure.login_page.compiled.search(answer.content):
            refused = step.how.form is not None
            raise CollectError(
                FailureKind.LOGIN,
                f"the log-in page came back: {self._target.source.address} refused the log-in"
                if refused
                else "a log-in page came instead",
                hint="" if refused else "log in with an earlier step; did the session end too early?",
                tail=answer.content[:TAIL],
            )

    async def put(self, place: str, content: bytes, step: Put[Upload]) -> Answer:
        """Send a part as the body of a request, or as a file in a form (RFC 7578)."""
        how, spool = step.how, self.spool(step)
        sent: dict[str, Any] = {"content": content}
        if how.field is not None:
            sent = {"data": how.form, "files": {how.field: (step.part.rpartition("/")[2], content)}}
        head, _ = await self._exchange((how.method, place), how.headers, sent, spool)
        return _whole(head, spool)

    async def _exchange(
        self, line: tuple[str, str], headers: Mapping[str, str], content: Mapping[str, Any], spool: Spool
    ) -> tuple[Answer, str]:
        """A request with its redirects, and with the pauses that the server asks for; the body goes into the spool."""
        method, url = line[0], self._procedure.base + line[1]
        redirects = waits = 0
        while True:
            answer, wait = await self._once(method, url, headers, content, spool)
            if wait is not None and wait > self._procedure.step_deadline.total_seconds():
                message = f"the server asks to wait {describe(timedelta(seconds=wait))} (Retry-After)"
                hint = f"that is longer than the step's deadline of {self._procedure.step_deadline}: collect it later"
                raise CollectError(FailureKind.STEP, message, hint=hint, tail=self.tail)
            if wait is not None and waits < _MOST_WAITS:
                waits += 1
                spool.clear()
                await asyncio.sleep(wait)
            elif answer.status in _REDIRECTS and "location" in answer.headers:
                redirects += 1
                url = self._redirected(url, answer.headers["location"], redirects)
                if answer.status == 303 or (answer.status in (301, 302) and method == "POST"):
                    method, content = "GET", {}
                spool.clear()
            else:
                return answer, url

    async def _once(
        self, method: str, url: str, headers: Mapping[str, str], content: Mapping[str, Any], spool: Spool
    ) -> tuple[Answer, float | None]:
        """One request; the second value is how long the server asks to wait before the next."""
        import httpx

        self._tail = b""
        safe = method in _SAFE
        try:
            async with self._client.stream(method, url, **{"headers": dict(headers), **content}) as response:
                async for data in response.aiter_bytes():
                    spool.write(data)
                    self._tail = spool.tail
        except (httpx.ConnectError, httpx.ConnectTimeout) as exc:
            raise peer_verdict(self._target, exc) or self._unreachable(exc) from exc
        except (httpx.TransportError, ssl.SSLError) as exc:
            verdict = peer_verdict(self._target, exc)
            if verdict:
                raise verdict from exc
            message = f"the connection broke in the middle of an answer: {exc or type(exc).__name__}"
            raise CollectError(FailureKind.INCOMPLETE, message, tail=self.tail, again=safe) from exc
        except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as exc:
            raise CollectError(FailureKind.STEP, f"{method} {url}: {exc}") from exc
        self._tell_time(response.headers)
        answer = Answer(
            b"", status=response.status_code, headers=dict(response.headers), cookies=_cookies(self._client)
        )
        waits = response.status_code == 429 or (response.status_code == 503 and safe)
        if waits and ("retry-after" in response.headers or response.status_code == 429):
            return answer, _wait(response.headers.get("retry-after"))
        return answer, None

    def _redirected(self, url: str, location: str, count: int) -> str:
        """Where to look instead; only on the same server, as tokens and cookies belong to it."""
        import httpx

        before, after = httpx.URL(str(self._client.base_url)).join(url), httpx.URL(location)
        after = before.join(after)
        if count > _MOST_REDIRECTS:
            raise CollectError(FailureKind.STEP, f"it redirects more than {_MOST_REDIRECTS} times, last to {location}")
        if (after.scheme, after.host, after.port) != (before.scheme, before.host, before.port):
            hint = "collect from that server itself: a redirect never gets secrets"
            raise CollectError(FailureKind.STEP, f"it redirects to another server, {after.host}", hint=hint)
        return after.raw_path.decode("ascii", "replace")

    def _unreachable(self, exc: "httpx.TransportError") -> CollectError:
        import httpx

        place = self._target.place
        if any(isinstance(one, ConnectionRefusedError) for one in causes_of(exc)):
            return CollectError(FailureKind.REFUSED, f"{place}: connection refused")
        if isinstance(exc, httpx.ConnectTimeout):
            return CollectError(FailureKind.UNREACHABLE, f"{place} timed out after {_CONNECT_S}s")
        reason = re.sub(r"^\[Errno -?\d+\] ", "", str(exc)) or type(exc).__name__
        return CollectError(FailureKind.UNREACHABLE, f"{place}: {reason}")

    def _tell_time(self, headers: "httpx.Headers") -> None:
        """How far its clock is ahead, by the Date header (RFC 9110 section 6.6.1)."""
        try:
            told = _date(headers.get("date", ""))
        except ValueError:
            return
        self.skew = (told if told.tzinfo else told.replace(tzinfo=UTC)) - datetime.now(UTC)


def _whole(head: Answer, spool: Spool) -> Answer:
    """An answer with the content that came into the spool."""
    return replace(head, content=b"".join(spool.part("answer").pieces()))


def _request_line(what: str) -> tuple[str, str]:
    method, _, path = what.strip().partition(" ")
    if method not in _METHODS:
        method, path = "GET", what.strip()
    if not path.strip().startswith("/"):
        hint = 'write "GET /path"; the server is the source\'s address'
        raise CollectError(FailureKind.STEP, f'"{what}" is not a request', hint=hint)
    return method, path.strip()


def _content(carried: Request) -> dict[str, Any]:
    if carried.json is not None:
        return {"content": json.dumps(carried.json), "headers": {"content-type": "application/json", **carried.headers}}
    if carried.form is not None:
        return {"data": carried.form}
    return {"content": carried.body} if carried.body is not None else {}


def _cookies(client: "httpx.AsyncClient") -> dict[str, str]:
    return {cookie.name: cookie.value or "" for cookie in client.cookies.jar}


def _date(written: str) -> datetime:
    """A date as HTTP writes it (RFC 9110 section 5.6.7). ValueError, TypeError and others where it is none."""
    from email.utils import parsedate_to_datetime

    return parsedate_to_datetime(written)


def _wait(told: str | None) -> float:
    """Retry-After in seconds or as a date (RFC 9110 section 10.2.3)."""
    if told and told.strip().isdecimal():
        return float(told)
    try:
        until = _date(told or "")
        return max(0.0, (until - datetime.now(until.tzinfo)).total_seconds())
    except (ValueError, TypeError):
        return _WAIT_S


def _last_modified(headers: Mapping[str, str]) -> datetime | None:
    """RFC 9110 section 8.8.2."""
    try:
        told = _date(headers.get("last-modified", ""))
    except (ValueError, TypeError, OverflowError, IndexError):
        return None
    return told if told.tzinfo else told.replace(tzinfo=UTC)


def _suggested(headers: Mapping[str, str], url: str) -> str:
    """A name from Content-Disposition (RFC 6266) or the path, without anything that could lead elsewhere."""
    from email.message import EmailMessage

    message = EmailMessage()
    message["content-disposition"] = re.sub(r"[\r\n]", " ", headers.get("content-disposition", "attachment"))
    try:
        name = message.get_filename() or ""
    except (ValueError, LookupError):
        name = ""
    name = name or unquote(url.partition("?")[0].rstrip("/").rpartition("/")[2])
    name = re.split(r"[/\\]", name)[-1]
    name = re.sub(r"[^\w.,=+@ -]", "_", name).strip(" .")[:100]
    return name or "download"
