"""A version: its parts, and what can be done with it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Self

from historon.api.context import Opened, listed
from historon.api.history import record_named
from historon.api.running import waiting
from historon.base.errors import UsageError
from historon.base.quantities import size_text
from historon.estate import nearest
from historon.store import LARGE, StoredPart
from historon.store import Version as Record

if TYPE_CHECKING:
    from historon.api.pushing import PushPlan
    from historon.restore import Naming, OriginalState, Restored
    from historon.store import Proof

__all__ = ["Version", "named"]

_NAMED = 12  # parts in a message


@dataclass(frozen=True, eq=False)
class Version(Record):
    """One export of one source: `source`, `number`, `at` (UTC), `state`, `size` in bytes, `held` and `note`.

    `added` and `removed` count lines against the version before. `good` is false for a suspect version.
    """

    opened: Opened = field(repr=False, compare=False, kw_only=True)

    @classmethod
    def of(cls, opened: Opened, record: Record) -> Self:
        """The version of a record of the store."""
        return cls(**{one.name: getattr(record, one.name) for one in fields(Record)}, opened=opened)

    def __str__(self) -> str:
        return f"{self.source}@{self.number}"

    def __eq__(self, other: object) -> bool:
        """Also equal to the record of the store that says the same."""
        if not isinstance(other, Record):
            return NotImplemented
        return all(getattr(self, one.name) == getattr(other, one.name) for one in fields(Record))

    __hash__ = Record.__hash__

    @property
    def row(self) -> dict[str, object]:
        """The version as a row of a table: `size_bytes`, and the other fields under their own names.

        Example: `estate.version("edge-1@1").row["size_bytes"]`
        """
        values = {one.name: getattr(self, one.name) for one in fields(Record)}
        return {**values, "state": str(self.state), "size_bytes": values.pop("size")}

    def parts(self) -> list[StoredPart]:
        """The parts of the version, each with its name, size (bytes) and SHA-256.

        Example: `[part.name for part in estate.version("edge-1@latest").parts()]`
        """
        return list(self.opened.store.parts(self.source, self.number))

    def part(self, name: str | None = None) -> StoredPart:
        """One part; the name may be omitted where there is only one.

        Raises UsageError when the part does not exist, or when the name is omitted and there are several.

        Example: `estate.version("edge-1@1").part().size`
        """
        parts = self.parts()
        names = [part.name for part in parts]
        files = [part for part in parts if not part.is_tree]
        if name is None and len(files) == 1:
            return files[0]
        if name is None:
            listed = "\n".join(f"  {part}" for part in names[:_NAMED])
            more = f"\n  … and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
            raise UsageError(f"{self} has {len(parts)} parts; name one of them:\n{listed}{more}")
        if name not in names:
            raise UsageError(f'{self} has no part "{name}"', hint=nearest(name, names))
        return parts[names.index(name)]

    def read(self, part: str | None = None, *, reveal: bool = False) -> bytes:
        """The content of a part with its secrets masked; with `reveal` as it was collected, byte for byte.

        Raises UsageError for a part that cannot be masked: a binary one, or one larger than 16 MiB.

        Example: `estate.version("edge-1@1").read().decode()`
        """
        from historon.base.bounds import begin_on
        from historon.versions import comparable, is_binary

        chosen = self.part(part)
        if reveal:
            return b"".join(self.pieces(chosen.name))
        command = f"historon show {self} {chosen.name} > FILE"
        if chosen.size > LARGE:
            raise UsageError(
                f"{chosen.name} is too large to mask secrets in it, {size_text(chosen.size)}", hint=command
            )
        begin_on(str(self))
        content = comparable(chosen, self.opened.store)
        if is_binary(content):
            raise UsageError(f"{chosen.name} is binary, {size_text(chosen.size)}", hint=command)
        return self.opened.masks(self.source).hide(content)

    def pieces(self, part: str | None = None) -> Iterator[bytes]:
        """A part as it was collected, secrets included, in pieces that fit into memory; its SHA-256 is verified.

        Example: `sum(map(len, estate.version("edge-1@1").pieces()))`
        """
        yield from self.opened.store.pieces(self.part(part))

    def restore(
        self,
        folder: str | Path,
        *,
        only: str | Sequence[str] = (),
        overwrite: bool = False,
        missing: bool = False,
        permissions: bool = False,
        outward_links: bool = False,
        naming: "Naming | None" = None,
    ) -> "Restored":
        """Write the version, or `only` some parts or paths of it, to a folder, secrets included.

        `naming` sets the names of the files, `missing` leaves existing files unchanged, `overwrite` replaces them.
        Raises UsageError when a file exists, OutsideError when one cannot be written.

        Example: `estate.version("edge-1@1").restore("back").files`
        """
        from historon.restore import write_version

        return write_version(
            self.opened.store,
            self,
            Path(folder),
            self.opened.masks(self.source),
            only=listed(only),
            overwrite=overwrite,
            missing=missing,
            permissions=permissions,
            outward_links=outward_links,
            naming=naming,
        )

    def plan_originals(self, *, only: str | Sequence[str] = (), missing: bool = False) -> "OriginalState":
        """Plan to restore files of this machine to their original paths: their state now, compared with the version.

        With `missing` only missing files are planned for. `restore_originals` carries the plan out.
        """
        from historon.restore import originals

        described = self.opened.described
        source = described.sources[self.source]
        return originals(described, source, self.opened.store, self, listed(only), missing=missing)

    def restore_originals(self, plan: "OriginalState") -> "Restored":
        """Restore the files of a plan (see `plan_originals`), and no others."""
        from historon.restore import give_back

        return give_back(self.opened.store, plan)

    def hold(self, reason: str) -> Self:
        """Keep the version regardless of retention, for this reason. Returns it as it is now.

        Example: `estate.version("edge-1@1").hold("before the change of provider").held`
        """
        self.opened.to_write().hold(self.source, self.number, reason)
        return replace(self, held=reason)

    def lift_hold(self) -> Self:
        """End the hold: retention applies to the version again. Returns it as it is now.

        Example: `estate.version("edge-1@1").lift_hold().held is None`
        """
        self.opened.to_write().hold(self.source, self.number, None)
        return replace(self, held=None)

    def vouch(self) -> "Version":
        """Mark the suspect version as good. Returns it as it is now. Raises UsageError when it is good already."""
        from historon.collect import vouch

        return Version.of(self.opened, vouch(self.opened.described, self.opened.to_write(), self))

    def withdraw_vouch(self) -> "Version":
        """Mark the version as suspect again. Returns it as it is now. Raises UsageError when nobody vouched for it."""
        from historon.collect import withdraw_vouch

        return Version.of(self.opened, withdraw_vouch(self.opened.to_write(), self))

    def prove(self) -> "Proof":
        """Test the version with the `proof` of its procedure; the verdict is stored with the version.

        Raises UsageError when the procedure has no proof.
        """
        from historon.restore import prove

        described = self.opened.described
        source = described.sources[self.source]
        return prove(self.opened.store, source, described.procedure_of(source), self, self.opened.clock())

    async def plan_push_async(self, *, only: str | None = None) -> "PushPlan":
        """Collect the source now, and compare: everything that a push of this version would send and change.

        `only` is a part, a folder of parts, or a path of the outline. Raises UsageError when the procedure has no
        push steps, OutsideError when the source cannot be collected now.
        """
        from historon.api.pushing import plan_push

        return await plan_push(self.opened, self, only)

    plan_push = waiting(plan_push_async)

    def lines(self, *, only: str | None = None, reveal: bool = False) -> dict[str, list[str]]:
        """The commands that turn the source's last good version into this one, by part; secrets are masked.

        Raises UsageError when they cannot be calculated.

        Example: `estate.version("edge-1@1").lines()`
        """
        from historon.api.pushing import lines_to

        return lines_to(self.opened, self, only, reveal=reveal)


def named(opened: Opened, written: str) -> Version:
    """The version that `SOURCE@WHEN` names. Raises UsageError when it does not exist."""
    return Version.of(opened, record_named(opened, written))
