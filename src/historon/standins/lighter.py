"""A Lighter object server: one bucket over the S3 protocol, as far as copies need it. Made up.

Requests are signed by signature version 4, which is enforced with the digest of what they carry; writes may depend on a
condition (RFC 9110, 13.1); objects are written whole or in parts; what is under a lock can be neither removed nor
replaced.
"""

import hashlib
import hmac
import re
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from pathlib import Path
from urllib.parse import quote, unquote
from xml.sax.saxutils import escape, unescape

from historon.standins.web import Reply, Request, WebServer

__all__ = ["Lighter", "LighterFault"]

_SKEW = timedelta(minutes=15)
_PAGE = 1000  # names in one answer
_UNSIGNED = "UNSIGNED-PAYLOAD"


class LighterFault(StrEnum):
    """What an object server can be made to do wrong."""

    FULL = "full"  # takes nothing more
    DAMAGED = "damaged"  # gives back what was not written
    BROKEN = "broken"  # breaks off in the middle of an answer
    DOWN = "down"  # answers that it cannot answer


@dataclass
class _Upload:
    name: str
    parts: dict[int, bytes] = field(default_factory=dict)


class Lighter(WebServer):
    """One object server with its bucket; `objects` are what is in it, `locked` the names that nobody may remove."""

    def __init__(self, folder: Path, name: str = "lighter-1", bucket: str = "historon-copies") -> None:
        super().__init__(name, folder)
        self.bucket = bucket
        self.key_name = "copier"
        self.key = "bonded-warehouse-7"
        self.region = "us-east-1"
        self.objects: dict[str, bytes] = {}
        self.locked: set[str] = set()
        self.fault: LighterFault | None = None
        self.fault_after = 0  # requests that are still well
        self.written = 0  # bytes that came in objects
        self._uploads: dict[str, _Upload] = {}
        self._lock = threading.Lock()

    @property
    def url(self) -> str:
        """The server and the bucket, as an estate file names them."""
        return f"{'http' if self.in_clear else 'https'}://127.0.0.1:{self.port}/{self.bucket}"

    def break_down(self, fault: LighterFault | None, after: int = 0) -> None:
        """Switch a fault on, after so many more requests, or all of them off."""
        self.fault, self.fault_after = fault, after

    def answer(self, request: Request) -> Reply:
        with self._lock:
            why = self._refusal(request)
            if why:
                return _trouble(403, why, "the request is not signed as it must be")
            if self._is_faulty() and self.fault is LighterFault.DOWN:
                return _trouble(503, "SlowDown", "please reduce your request rate")
            bucket, _, name = unquote(request.path).lstrip("/").partition("/")
            if bucket != self.bucket:
                return _trouble(404, "NoSuchBucket", "there is no such bucket")
            if name:
                return self._object(request, name)
            if request.method == "POST":
                return self._deleted_many(request)
            return self._listed(request)

    def _is_faulty(self) -> bool:
        if self.fault is None:
            return False
        self.fault_after -= 1
        return self.fault_after < 0

    # ---- objects -----------------------------------------------------------------------------------------------------

    def _object(self, request: Request, name: str) -> Reply:
        in_parts = "uploadId" in request.query
        if request.method == "POST":
            return self._completed(request, name) if in_parts else self._begun(name)
        if request.method == "PUT":
            return self._part(request) if in_parts else self._put(request, name)
        if request.method == "DELETE":
            return self._ended(request) if in_parts else self._deleted(name)
        return self._got(request, name)

    def _got(self, request: Request, name: str) -> Reply:
        content = self.objects.get(name)
        if content is None:
            return _trouble(404, "NoSuchKey", "the specified key does not exist")
        headers = {"etag": _etag(content), "last-modified": "Sun, 14 Jun 2026 02:30:00 GMT", "accept-ranges": "bytes"}
        if request.method == "HEAD":
            return Reply(b"", 200, "application/octet-stream", {**headers, "content-length": str(len(content))})
        if self.fault is LighterFault.DAMAGED and self.fault_after < 0:
            content = content[:-1] + bytes([content[-1] ^ 1]) if content else content
        cut = len(content) // 2 if self.fault is LighterFault.BROKEN and self.fault_after < 0 else 0
        return Reply(content, 200, "application/octet-stream", headers, cut)

    def _put(self, request: Request, name: str) -> Reply:
        there = self.objects.get(name)
        wanted = request.headers.get("if-match")
        if request.headers.get("if-none-match") == "*" and there is not None:
            return _trouble(412, "PreconditionFailed", "at least one of the conditions does not hold")
        if wanted is not None and (there is None or _etag(there) != wanted):
            return _trouble(412, "PreconditionFailed", "at least one of the conditions does not hold")
        return self._stored(name, request.body) or Reply(headers={"etag": _etag(request.body)})

    def _stored(self, name: str, content: bytes) -> Reply | None:
        """Keep an object; or what is said where that cannot be."""
        if name in self.locked and name in self.objects:
            return _trouble(403, "AccessDenied", "the object is locked")
        if self.fault is LighterFault.FULL and self.fault_after < 0:
            return _trouble(403, "QuotaExceeded", "the bucket is full")
        self.objects[name] = content
        self.written += len(content)
        return None

    def _deleted(self, name: str) -> Reply:
        if name in self.locked:
            return _trouble(403, "AccessDenied", "the object is locked")
        self.objects.pop(name, None)
        return Reply(status=204)

    def _deleted_many(self, request: Request) -> Reply:
        """Remove what a list names; what is locked is reported in the answer."""
        rows = []
        for found in re.findall(rb"<Key>(.*?)</Key>", request.body):
            name = unescape(found.decode())
            if name in self.locked:
                why = "<Code>AccessDenied</Code><Message>the object is locked</Message>"
                rows.append(f"<Error><Key>{escape(name)}</Key>{why}</Error>")
            else:
                self.objects.pop(name, None)
                rows.append(f"<Deleted><Key>{escape(name)}</Key></Deleted>")
        return _xml(f"<DeleteResult>{''.join(rows)}</DeleteResult>")

    # ---- objects in parts --------------------------------------------------------------------------------------------

    def _begun(self, name: str) -> Reply:
        number = f"upload-{len(self._uploads) + 1}"
        self._uploads[number] = _Upload(name)
        return _xml(f"<InitiateMultipartUploadResult><UploadId>{number}</UploadId></InitiateMultipartUploadResult>")

    def _part(self, request: Request) -> Reply:
        upload = self._uploads.get(request.query["uploadId"])
        if upload is None:
            return _trouble(404, "NoSuchUpload", "the upload does not exist")
        if self.fault is LighterFault.FULL and self.fault_after < 0:
            return _trouble(403, "QuotaExceeded", "the bucket is full")
        upload.parts[int(request.query["partNumber"])] = request.body
        return Reply(headers={"etag": _etag(request.body)})

    def _completed(self, request: Request, name: str) -> Reply:
        upload = self._uploads.pop(request.query["uploadId"], None)
        if upload is None:
            return _trouble(404, "NoSuchUpload", "the upload does not exist")
        content = b"".join(upload.parts[number] for number in sorted(upload.parts))
        done = f"<CompleteMultipartUploadResult><ETag>{escape(_etag(content))}</ETag></CompleteMultipartUploadResult>"
        return self._stored(name, content) or _xml(done)

    def _ended(self, request: Request) -> Reply:
        self._uploads.pop(request.query["uploadId"], None)
        return Reply(status=204)

    # ---- names -------------------------------------------------------------------------------------------------------

    def _listed(self, request: Request) -> Reply:
        prefix = request.query.get("prefix", "")
        after = request.query.get("continuation-token", "")
        names = sorted(name for name in self.objects if name.startswith(prefix) and name > after)
        page = names[:_PAGE]
        more = len(names) > len(page)
        rows = "".join(
            f"<Contents><Key>{escape(name)}</Key><LastModified>2026-06-14T02:30:00.000Z</LastModified>"
            f"<ETag>{escape(_etag(self.objects[name]))}</ETag><Size>{len(self.objects[name])}</Size></Contents>"
            for name in page
        )
        token = f"<NextContinuationToken>{escape(page[-1])}</NextContinuationToken>" if more else ""
        truncated = "true" if more else "false"
        return _xml(
            f"<ListBucketResult><Name>{self.bucket}</Name><KeyCount>{len(page)}</KeyCount>"
            f"<IsTruncated>{truncated}</IsTruncated>{token}{rows}</ListBucketResult>"
        )

    # ---- signatures --------------------------------------------------------------------------------------------------

    def _refusal(self, request: Request) -> str:
        """Why a request is not let in; empty when it is signed with the key, not long ago, for what it carries."""
        scheme, _, rest = request.headers.get("authorization", "").partition(" ")
        fields = dict(one.strip().partition("=")[::2] for one in rest.split(","))
        credential = fields.get("Credential", "").split("/")
        if scheme != "AWS4-HMAC-SHA256" or credential[0] != self.key_name or len(credential) != 5:
            return "InvalidAccessKeyId"
        payload = request.headers.get("x-amz-content-sha256", "")
        if payload not in (_UNSIGNED, hashlib.sha256(request.body).hexdigest()):
            return "XAmzContentSHA256Mismatch"
        at = request.headers.get("x-amz-date", "")
        try:
            told = datetime.strptime(at, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        except ValueError:
            return "AccessDenied"
        if abs(datetime.now(UTC) - told) > _SKEW or credential[2] != self.region:
            return "RequestTimeTooSkewed"
        signed = fields.get("SignedHeaders", "").split(";")
        if "host" not in signed:
            return "AccessDenied"
        scope = "/".join(credential[1:])
        asked = hashlib.sha256(_canonical(request, signed, payload).encode()).hexdigest()
        to_sign = "\n".join(("AWS4-HMAC-SHA256", at, scope, asked))
        right = hmac.new(self._signing_key(credential), to_sign.encode(), hashlib.sha256).hexdigest()
        if hmac.compare_digest(right, fields.get("Signature", "")):
            return ""
        return "SignatureDoesNotMatch"

    def _signing_key(self, credential: list[str]) -> bytes:
        key = f"AWS4{self.key}".encode()
        for word in credential[1:]:
            key = hmac.digest(key, word.encode(), "sha256")
        return key


def _canonical(request: Request, signed: list[str], payload: str) -> str:
    """A request as it is signed."""
    headers = "".join(f"{name}:{' '.join(request.headers.get(name, '').split())}\n" for name in signed)
    query = "&".join(sorted(_encoded(request.written_query)))
    return "\n".join((request.method, request.path or "/", query, headers, ";".join(signed), payload))


def _encoded(query: str) -> Iterator[str]:
    for one in filter(None, query.split("&")):
        name, _, value = one.partition("=")
        yield f"{quote(unquote(name), safe='-_.~')}={quote(unquote(value), safe='-_.~')}"


def _etag(content: bytes) -> str:
    return f'"{hashlib.sha256(content).hexdigest()[:32]}"'


def _xml(text: str) -> Reply:
    return Reply(f'<?xml version="1.0" encoding="UTF-8"?>\n{text}'.encode(), kind="application/xml")


def _trouble(status: int, code: str, message: str) -> Reply:
    body = f"<Error><Code>{code}</Code><Message>{escape(message)}</Message></Error>"
    return Reply(f'<?xml version="1.0" encoding="UTF-8"?>\n{body}'.encode(), status, "application/xml")
