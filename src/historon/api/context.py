"""An estate file, its store and a clock: what every noun of the front door works with."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime, time, timedelta, tzinfo
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Self

from historon.base.errors import UsageError
from historon.estate import Duration, select
from historon.estate import Estate as EstateFile
from historon.estate import Source as Described
from historon.store import Store, check_writer, open_store

if TYPE_CHECKING:
    from historon.insight import Reader, Weights
    from historon.versions import Masks

__all__ = ["Opened", "Since", "Where", "labels_of", "listed"]

Where = Mapping[str, str] | Sequence[str]
Since = str | date | datetime | timedelta


def listed(only: str | Sequence[str]) -> Sequence[str]:
    """One part or path, or several, as several."""
    return [only] if isinstance(only, str) else only


def labels_of(where: Where) -> Sequence[str]:
    """Labels as they are written on the command line: `site=northmole`."""
    return [f"{label}={value}" for label, value in where.items()] if isinstance(where, Mapping) else where


class Opened:
    """The opened estate file, with what is read of the store once; a context manager that closes the store.

    `described` is the checked estate file. `clock` returns the instant (UTC) by which ages are calculated.
    """

    def __init__(self, described: EstateFile, *, clock: Callable[[], datetime], spend_reserve: bool = False) -> None:
        """With `spend_reserve` commands that free room may use the last of a full disk."""
        self.described = described
        self.clock = clock
        self._spend_reserve = spend_reserve
        self._key: bytes | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, raised: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the store; the next access opens it again."""
        opened = self.__dict__.pop("store", None)
        if opened is not None:
            opened.close()

    @property
    def name(self) -> str:
        """The estate's name."""
        return self.described.settings.name

    @property
    def zone(self) -> tzinfo:
        """The estate's time zone."""
        return self.described.zone

    @property
    def file(self) -> Path:
        """The estate file."""
        return self.described.file

    @cached_property
    def store(self) -> Store:
        """The estate's store. Raises StoreError when it is missing or is not a store."""
        return open_store(self.described, spend_reserve=self._spend_reserve, to_read=True)

    def to_write(self) -> Store:
        """The estate's store, for writing. Raises StoreError when it belongs to another estate (`historon store`)."""
        check_writer(self.store, self.described.file)
        return self.store

    def select(self, *names: str, where: Where = ()) -> list[Described]:
        """The entries of these sources in the estate file, or of all; `where` narrows them by labels.

        Raises UsageError for a name or label that does not exist.
        """
        return select(self.described, names, labels_of(where))

    def moment(self, since: Since) -> datetime:
        """The instant that an age (`7d`, a timedelta), a date or an instant means; without a zone in the estate's own.

        Raises UsageError for a text that is neither an age nor a date.
        """
        if isinstance(since, timedelta):
            return self.clock() - since
        if isinstance(since, datetime):
            return since if since.tzinfo else since.replace(tzinfo=self.zone)
        if isinstance(since, date):
            return datetime.combine(since, time(), self.zone)
        try:
            if since[:4].isdigit() and "-" in since:
                return self.moment(datetime.fromisoformat(since))
            return self.clock() - Duration.parse(since)
        except (ValueError, OverflowError) as exc:
            raise UsageError(f"--since {since}: {exc}", hint="write an age such as 24h or 7d, or a date") from exc

    def fingerprint_key(self) -> bytes:
        """The key of the marks that distinguish masked secrets; read once, so that it is known after closing."""
        if self._key is None:
            self._key = self.store.fingerprint_key()
        return self._key

    def masks(
        self,
        source: str,
        *,
        reveal: bool = False,
        with_noise: bool = False,
        ignore_case: bool = False,
        ignore_space: bool = False,
    ) -> "Masks":
        """The masks of a source's procedure: only the general ones for a source that the estate file does not name."""
        from historon.versions import Masks

        known = self.described.sources.get(source)
        procedure = self.described.procedure_of(known) if known else None
        return Masks.of(
            procedure,
            key=self.fingerprint_key(),
            reveal=reveal,
            with_noise=with_noise,
            ignore_case=ignore_case,
            ignore_space=ignore_space,
        )

    @cached_property
    def weights(self) -> "Weights":
        """How much changes matter, by the shipped table and the estate's own."""
        from historon.insight import Weights

        return Weights(self.described.weights)

    def rules(self, source: str) -> "tuple[Masks, Reader]":
        """How the changes of a source are masked and read."""
        from historon.insight import Reader

        known = self.described.sources.get(source)
        return self.masks(source), Reader(known.own_names if known else (source,), (), self.weights)
