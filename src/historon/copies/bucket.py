"""A copy in a bucket of objects, over the S3 protocol: signed requests, and a head that is replaced on a condition."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import urlsplit

from historon.base.errors import OutsideError, StoreError
from historon.copies import objects
from historon.copies.interface import Holdings
from historon.copies.objects import HEAD, ConflictError
from historon.copies.places import Pace
from historon.estate import Copy, Estate, Size
from historon.store import Copied, Damage, Store, Verification

if TYPE_CHECKING:
    from obstore.store import S3Store

__all__ = ["BucketCopy", "fetch", "holdings", "is_there", "update", "verify"]

_TIMEOUT = timedelta(seconds=60)
_RETRIES: Any = {"max_retries": 4, "retry_timeout": timedelta(seconds=60)}
_LINES = 8  # requests at a time
_PART = 8 * 2**20  # bytes from which on an object is sent in parts
_LONGEST = 200  # characters of what others say
_OURSELVES = ("localhost", "127.0.0.1", "::1")


class BucketCopy(Copy, frozen=True, kw_only=True):
    """`kind = "bucket"`: objects below `path` in a bucket, over the S3 protocol as many stores of objects speak it.

    `url` is the server and the bucket; the user of `credentials` is the key's name, its password the key itself.
    `authority` is the file of one that vouches for the server's certificate; `bandwidth` is in bytes a second.
    """

    kind: ClassVar[str] = "bucket"
    carries_settings: ClassVar[bool] = True

    url: str
    credentials: str
    path: str = "historon"
    region: str = "us-east-1"
    authority: str | None = None
    bandwidth: Size | None = None
    retention: str | None = None

    def __post_init__(self) -> None:
        """A server and a bucket; no key in the clear; and nothing that only a folder has."""
        found = urlsplit(self.url)
        if found.scheme not in ("https", "http") or not found.hostname or not self.bucket or "/" in self.bucket:
            raise ValueError('url is a server and a bucket (such as url = "https://objects.example/historon-copies")')
        if found.scheme == "http" and found.hostname not in _OURSELVES:
            raise ValueError("would send its contents in the clear (write https)")
        if found.username or found.query or found.fragment:
            raise ValueError("url has only a server and a bucket (name the account by credentials)")
        if self.mount is not None:
            raise ValueError("mount has no effect for a bucket (remove it)")
        if self.path.startswith("/") or ".." in self.path.split("/"):
            raise ValueError("path is below the bucket, without a slash in front")

    @property
    def server(self) -> str:
        """The address of the server."""
        found = urlsplit(self.url)
        return f"{found.scheme}://{found.netloc}"

    @property
    def bucket(self) -> str:
        """The bucket's name."""
        return urlsplit(self.url).path.strip("/")

    @property
    def place(self) -> str:
        return f"{self.url.rstrip('/')}/{self.path}"

    @property
    def account(self) -> str | None:
        return self.credentials

    @property
    def own_retention(self) -> str | None:
        return self.retention

    @property
    def reads(self) -> Mapping[str, str | None]:
        return {"authority": self.authority}

    @property
    def writes_to(self) -> str | None:
        return None


def is_there(copy: BucketCopy, estate: Estate) -> bool | None:
    """See CopyModule."""
    return None


def update(copy: BucketCopy, estate: Estate, store: Store, now: datetime, damaged: Sequence[Damage]) -> Copied:
    """See CopyModule."""
    return objects.update(_Bucket(copy, estate), estate, store, copy.retention, now, damaged)


def verify(copy: BucketCopy, estate: Estate, store: Store, sample: int | None, settings: str) -> Verification:
    """See CopyModule."""
    return objects.verify(_Bucket(copy, estate), store, sample, settings)


def is_newer(copy: BucketCopy, estate: Estate, store: Store, *, ask: bool) -> bool | None:
    """See CopyModule."""
    return objects.is_newer(_Bucket(copy, estate), store) if ask else None


def holdings(copy: BucketCopy, estate: Estate, _store: Store) -> Holdings:
    """See CopyModule."""
    return objects.holdings(_Bucket(copy, estate))


def fetch(copy: BucketCopy, estate: Estate, folder: Path) -> list[Damage]:
    """See CopyModule."""
    return objects.fetch(_Bucket(copy, estate), folder)


class _Bucket:
    """Objects in a bucket, see Objects."""

    def __init__(self, copy: BucketCopy, estate: Estate) -> None:
        self.place = copy.place
        self._pace = Pace(copy.bandwidth)
        self._store = _opened(copy, estate)

    def names(self, prefix: str) -> dict[str, int]:
        import obstore

        with self._told_of("list it"):
            batches = obstore.list(self._store, prefix)
            return {one["path"]: one["size"] for batch in batches for one in batch}

    def read(self, name: str) -> Iterator[bytes]:
        import obstore

        with self._told_of(f"read {name}"):
            for piece in obstore.get(self._store, name).stream():
                yield bytes(piece)

    def write(self, objects: Sequence[tuple[str, Iterable[bytes]]]) -> None:
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(_LINES) as lines:
            for done in [lines.submit(self._put, name, content) for name, content in objects]:
                done.result()

    def _put(self, name: str, content: Iterable[bytes]) -> None:
        import obstore

        with self._told_of(f"write {name}"):
            if isinstance(content, list):
                whole = b"".join(content)
                self._pace.spend(len(whole))
                obstore.put(self._store, name, whole, use_multipart=len(whole) > _PART)
            else:
                paced = _paced(content, self._pace.spend)
                obstore.put(self._store, name, paced, use_multipart=True, chunk_size=_PART, max_concurrency=2)

    def head(self) -> tuple[bytes, str] | None:
        import obstore
        from obstore.exceptions import NotFoundError

        with self._told_of(f"read {HEAD}"):
            try:
                found = obstore.get(self._store, HEAD)
            except (NotFoundError, FileNotFoundError):
                return None
            return bytes(found.bytes()), str(found.meta["e_tag"])

    def replace_head(self, content: bytes, mark: str | None) -> None:
        """See Objects: by `If-Match` or `If-None-Match` (RFC 9110, 13.1)."""
        import obstore
        from obstore.exceptions import AlreadyExistsError, PreconditionError

        with self._told_of(f"write {HEAD}"):
            try:
                condition: Any = "create" if mark is None else {"e_tag": mark}
                obstore.put(self._store, HEAD, content, mode=condition, use_multipart=False)
            except (AlreadyExistsError, PreconditionError) as exc:
                raise ConflictError(self.place, "updated this copy at the same time") from exc

    def remove(self, names: Sequence[str]) -> None:
        """See Objects: what is under a lock, or what this account may not remove, stays."""
        import obstore
        from obstore.exceptions import BaseError

        for name in names:
            with suppress(BaseError, OSError):
                obstore.delete(self._store, name)

    @contextmanager
    def _told_of(self, what: str) -> Iterator[None]:
        """The library's errors in words."""
        from obstore import exceptions

        try:
            yield
        except (exceptions.PermissionDeniedError, exceptions.UnauthenticatedError, PermissionError) as exc:
            hint = "check the credentials, and what they may do in this bucket"
            raise OutsideError(f"{self.place}: may not {what}: {_why(exc)}", hint=hint) from exc
        except (exceptions.NotFoundError, FileNotFoundError) as exc:
            raise StoreError(f"{self.place}: cannot {what}: it is missing", hint="historon copies --verify") from exc
        except (exceptions.BaseError, OSError) as exc:
            hint = "check the server and its free space. The update resumes where it stopped"
            raise StoreError(f"{self.place}: cannot {what}: {_why(exc)}", hint=hint) from exc


def _paced(content: Iterable[bytes], spend: Callable[[int], None]) -> Iterator[bytes]:
    for piece in content:
        spend(len(piece))
        yield piece


def _why(exc: BaseException) -> str:
    """What went wrong, in a line: the server's own words, those of the system, or the last ones of the library's."""
    text = str(exc)
    for form in (r"<Message>([^<]+)</Message>", r'message: "([^"]+)"'):
        found = re.search(form, text)
        if found:
            return found[1][:_LONGEST]
    if "InvalidCertificate" in text:
        return "its certificate is not trusted"
    return text.split("\n")[0].rpartition(" - ")[2][:_LONGEST]


def _opened(copy: BucketCopy, estate: Estate) -> "S3Store":
    try:
        from obstore.store import S3Store
    except ImportError as exc:
        raise OutsideError(
            "this installation cannot use buckets", hint="install the extra bucket: docs/install.md"
        ) from exc
    account = estate.credentials[copy.credentials]
    password = account.password.resolve(estate.folder).reveal() if account.password else ""
    options: Any = {"timeout": _TIMEOUT, "allow_http": copy.server.startswith("http:")}
    if copy.authority is not None:
        try:
            options["root_certificate"] = estate.path(copy.authority).read_bytes()
        except OSError as exc:
            message = f"the authority {copy.authority}: {exc.strerror or exc}"
            raise OutsideError(message, hint="check that it is a PEM file") from exc
    made: S3Store = S3Store(
        copy.bucket,
        prefix=copy.path or None,
        endpoint=copy.server,
        region=copy.region,
        access_key_id=account.user,
        secret_access_key=password,
        virtual_hosted_style_request=False,
        client_options=options,
        retry_config=_RETRIES,
    )
    return made
