"""A copy in a bucket of objects."""

from typing import ClassVar
from urllib.parse import urlsplit

from historon.estate.copies.copy import Copy
from historon.estate.durations import Size

__all__ = ["BucketCopy"]

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
            raise ValueError("would send what it holds in the clear (write https)")
        if found.username or found.query or found.fragment:
            raise ValueError("url holds a server and a bucket alone (name the account by credentials)")
        if self.mount is not None:
            raise ValueError("mount means nothing for a bucket (remove it)")
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
        """See Copy."""
        return f"{self.url.rstrip('/')}/{self.path}"

    @property
    def writes_to(self) -> str | None:
        """See Copy."""
        return None
