"""An opened estate: its sources, versions, rounds and copies, and what is done with all of them at once."""

import signal
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial
from typing import IO, TYPE_CHECKING

from historon.api.context import Opened, Since, Where, listed
from historon.api.copy import Copy, copies_named
from historon.api.ownership import Ownership, missing_from
from historon.api.pruning import PrunePlan, plan_prune, pruned_versions, prunings
from historon.api.results import Board, Changes, Collected, Difference, Found, Pruning, Required
from historon.api.round import Round, round_numbered, rounds_on_record
from historon.api.running import waiting
from historon.api.source import Source
from historon.api.version import Version, named
from historon.base.errors import StoreError, UsageError
from historon.estate import nearest
from historon.store import Store

if TYPE_CHECKING:
    from historon.collect import Observer, OfferedKey
    from historon.copies import Compared
    from historon.doctor import Finding
    from historon.insight import Typical
    from historon.store import Verification
    from historon.timetable import Due, OpenCondition

__all__ = ["Estate"]

_BEFORE = timedelta(days=30)  # how far back is looked for an edit that was undone
_OF_NEW = ("overdue", "requirement-failed")  # what is open of every source that was never collected


class Estate(Opened):
    """An opened estate. `historon.open` makes one; it is a context manager.

    Versions are named as on the command line: `edge-1`, `edge-1@17`, `edge-1@2026-06-14` (in the estate's own time
    zone), `edge-1@3d`. `where` narrows by labels: `{"site": "northmole"}`, or `["site=northmole"]`. Instants that are
    returned are in UTC. Secrets are masked in everything that is meant for eyes, unless `reveal` is set.
    """

    # ---- nouns -------------------------------------------------------------------------------------------------------

    def source(self, name: str) -> Source:
        """One source; also one that the estate file no longer names and the store still knows.

        Raises UsageError when there is no such source.

        Example: `estate.source("edge-1").versions()`
        """
        if name not in self.described.sources and name not in missing_from(self):
            found = Source(name, self)
            found.versions()
            return found
        return Source(name, self)

    def sources(self, *names: str, where: Where = ()) -> list[Source]:
        """The sources of these names, or all. Raises UsageError for a name or label that does not exist.

        Example: `[source.name for source in estate.sources(where={})]`
        """
        return [Source(one.name, self) for one in self.select(*names, where=where)]

    def version(self, written: str) -> Version:
        """The version that `SOURCE@WHEN` names. Raises UsageError when it does not exist.

        Example: `estate.version("edge-1@latest").at`
        """
        return named(self, written)

    def round(self, number: int, *, where: Where = ()) -> Round:
        """One round. Raises UsageError when it does not exist.

        Example: `estate.round(1).outcomes`
        """
        return round_numbered(self, number, where)

    def rounds(self, last: int = 20, *, where: Where = ()) -> list[Round]:
        """The last rounds, newest first.

        Example: `estate.rounds(1)[0].outcomes`
        """
        return rounds_on_record(self, last, where)

    def copy(self, name: str) -> Copy:
        """One copy. Raises UsageError when it does not exist."""
        return copies_named(self, name)[0]

    def copies(self, *names: str) -> list[Copy]:
        """These copies, or all.

        Example: `[copy.name for copy in estate.copies()]`
        """
        return copies_named(self, *names)

    @property
    def ownership(self) -> Ownership:
        """To which estate files the store belongs."""
        return Ownership(self)

    # ---- is all well? ------------------------------------------------------------------------------------------------

    def status(self, *names: str, where: Where = ()) -> Board:
        """How fresh the sources are, and everything that needs attention.

        Example: `estate.status().well`
        """
        from historon.timetable import open_conditions, statuses

        now = self.clock()
        chosen = self.select(*names, where=where)
        board = statuses(self.described, chosen, self.store, now)
        if not names and not where:
            return Board(board, open_conditions(self.described, self.store, now, board=board))
        asked = {source.name for source in chosen}
        found = open_conditions(self.described, self.store, now, board=board, copies=())
        return Board(board, [one for one in found if one.source in asked])

    def open_conditions(self) -> "list[OpenCondition]":
        """Everything that needs attention now, the gravest first; empty when all is well.

        Example: `[str(one) for one in estate.open_conditions()]`
        """
        from historon.timetable import open_conditions

        return open_conditions(self.described, self.store, self.clock())

    def doctor(self, *, where: Where = ()) -> "list[Finding]":
        """Check the machine, files and settings without contacting a source; what is wrong comes first.

        With `where` only what is about these sources, their procedures and their accounts.

        Example: `[finding.what for finding in estate.doctor()]`
        """
        from historon.doctor import Finding, examine

        only = self.select(where=where) if where else None
        asked = None if only is None else {source.name for source in only}
        try:
            store: Store | StoreError = self.store
            conditions = [one for one in self.open_conditions() if asked is None or one.source in asked]
            new = {one.source for one in conditions if one.is_new}  # doctor has findings of its own about these
            known = [one for one in conditions if one.source not in new or one.kind not in _OF_NEW]
            opened = [Finding(one.is_grave, one.subject, one.words, one.advice) for one in known]
        except StoreError as exc:
            store, opened = exc, []
        found = examine(self.described, store, now=self.clock(), only=only)
        return sorted([*opened, *found], key=lambda finding: not finding.wrong)

    def agenda(self, span: timedelta, *names: str, where: Where = ()) -> "list[Due]":
        """What is due within this span from now, in order. Nothing is collected."""
        from historon.timetable import agenda

        now = self.clock()
        return list(agenda(self.described, self.select(*names, where=where), now, now + span))

    def missing(self) -> list[str]:
        """Sources that have versions, or that the estate had before, and that are neither described nor retired.

        Example: `estate.missing()`
        """
        return missing_from(self)

    # ---- what changed, and where something is ------------------------------------------------------------------------

    def diff(
        self,
        old: str,
        new: str | None = None,
        *,
        only: str | None = None,
        reveal: bool = False,
        with_noise: bool = False,
        ignore_case: bool = False,
        ignore_space: bool = False,
    ) -> Difference:
        """The changes between two versions, two sources, or a version and a `file:PATH`.

        With a source only: its last change. With one `SOURCE@WHEN` only: from then to its latest version. `only` is a
        part, or a path of the outline. Raises UsageError when one of them does not exist.

        Example: `[change.words for part in estate.diff("edge-1@1", "edge-1@2").parts for change in part.changes]`
        """
        from historon.api.comparing import compared

        masks = partial(
            self.masks, reveal=reveal, with_noise=with_noise, ignore_case=ignore_case, ignore_space=ignore_space
        )
        return compared(self, old, new, only, masks)

    def typical(self, *names: str, where: Where = ()) -> "Typical":
        """The sources that differ from the majority of these, by their latest good versions.

        Raises UsageError when fewer than three of them have a version.

        Example: `estate.typical()`
        """
        from historon.api.looking import typical_of

        return typical_of(self, self.select(*names, where=where))

    def changes(self, since: Since = "7d", *, where: Where = ()) -> Changes:
        """The changes across the estate since an age (`7d`, a timedelta), a date or an instant.

        The same edit on many sources is one family. Raises UsageError for a text that is neither an age nor a date.

        Example: `len(estate.changes("30d").families)`
        """
        from historon.insight import families, fingerprinted

        began, now = self.moment(since), self.clock()
        chosen = {source.name for source in self.select(where=where)} if where else None
        recorded = (one for one in self.store.changed(began, now) if chosen is None or one.source in chosen)
        changed = list(fingerprinted(self.store, recorded, self.rules))
        before = self.store.changed(began - _BEFORE, began)
        return Changes(changed, families(changed, before), self.store, self.rules)

    def find(
        self,
        text: str,
        *,
        where: Where = (),
        at: str | None = None,
        ever: bool = False,
        expression: bool = False,
        exact_case: bool = False,
        reveal: bool = False,
    ) -> Found:
        """The lines that contain a text: in the latest versions, in those `at` an instant, or in all (`ever`).

        `at` is a date, an instant or an age. Raises UsageError for an empty text or a wrong expression.

        Example: `estate.find("time-server").hits`
        """
        from historon.api.looking import checked_query, found_at, found_ever

        query = checked_query(text, expression=expression, exact_case=exact_case)
        if ever and at:
            raise UsageError("--ever searches all versions, --at those of one instant", hint="give only one of them")
        names = [source.name for source in self.select(where=where)]
        if ever:
            return found_ever(self, names, query, reveal=reveal)
        self.fingerprint_key()  # hits are masked when they are looked at, maybe when the store is closed again
        return found_at(self, names, at, query, reveal=reveal)

    def requirements(self, *names: str, where: Where = ()) -> list[Required]:
        """The requirements of each source that has some: met, not met or unknown, by its latest good version.

        Example: `[one.source.name for one in estate.requirements()]`
        """
        from historon.api.looking import required_of

        return required_of(self, self.select(*names, where=where))

    # ---- collecting --------------------------------------------------------------------------------------------------

    async def collect_async(
        self,
        *names: str,
        where: Where = (),
        observer: "Observer | None" = None,
        trust: "Callable[[Mapping[str, OfferedKey]], bool] | None" = None,
        stopped_by: Sequence[signal.Signals] = (),
    ) -> Collected:
        """Collect these sources, or all, now: one round; then notify the channels.

        `observer` is called as each source progresses. A host key that is shown for the first time is refused, unless
        `trust`, called with these keys by source, returns true: then those sources are collected again. Signals in
        `stopped_by` end the round cleanly; they need the main thread. Raises OutsideError when a round must not begin.
        Cancelling it ends the round cleanly, too: its report says so.

        Example: `[one.outcome for one in estate.collect("edge-1").report.results]`
        """
        from historon.api.collecting import collect

        every = not names and not where
        return await collect(self, self.select(*names, where=where), observer, trust, stopped_by, every=every)

    collect = waiting(collect_async)

    def unfinished(self, *names: str, where: Where = ()) -> list[Source]:
        """The sources that the interrupted last round did not reach."""
        from historon.collect import unfinished_sources

        found = unfinished_sources(self.store, self.select(*names, where=where))
        return [Source(one.name, self) for one in found]

    # ---- keeping -----------------------------------------------------------------------------------------------------

    def plan_prune(
        self, *names: str, where: Where = (), retention: str | None = None, as_of: datetime | None = None
    ) -> PrunePlan:
        """The versions that retention would remove, and the rule that keeps each of the others.

        With another `retention`, or `as_of` another instant than now, it is a preview. Raises UsageError when there is
        no such retention.

        Example: `estate.plan_prune("edge-1").removals`
        """
        return plan_prune(self, names, where, retention, as_of)

    def prunings(self, *names: str, where: Where = ()) -> list[Pruning]:
        """The past removals, newest first, by the service or by hand, with the number of versions of each source.

        Example: `estate.prunings()`
        """
        chosen = [one.name for one in self.select(*names, where=where)] if names or where else None
        return prunings(self.store, chosen)

    def pruned_versions(self, *names: str, where: Where = (), since: Since | None = None) -> int:
        """The number of removed versions of these sources that were made since then: their changes are unknown now.

        Example: `estate.pruned_versions("edge-1", since="7d")`
        """
        return pruned_versions(self, names, where, None if since is None else self.moment(since))

    def verify(self, *names: str, observer: Callable[[str], None] | None = None) -> "Verification":
        """Read every version of these sources, or all, from the disk and check it.

        `observer` is called for each source.         Raises UsageError for a source that was never collected.

        Example: `estate.verify("edge-1").well`
        """
        from historon.store import verify

        known = sorted(self.store.states())
        for name in names:
            if name not in known:
                raise UsageError(f'nothing was ever collected from "{name}"', hint=nearest(name, known))
        return verify(self.store, list(names) or known, observer or (lambda source: None))

    def restore_tar(
        self, versions: Iterable[Version], out: IO[bytes], *, only: str | Sequence[str] = (), dated: bool = False
    ) -> int:
        """Write versions into a stream as one tar, each below its source's name; returns the number of files."""
        from historon.restore import Naming, add_to_tar, opened_tar

        with opened_tar(out) as archive:
            return sum(
                add_to_tar(
                    archive,
                    self.store,
                    one,
                    self.masks(one.source),
                    only=listed(only),
                    naming=Naming(at=one.at if dated else None, below=one.source),
                )
                for one in versions
            )

    def compare_copies(self, *names: str) -> "Compared":
        """Which places agree on the digest of each version: the store and these copies, or all. Changes nothing."""
        from historon.copies import compare_places

        return compare_places(self.described, self.store, [copy.name for copy in self.copies(*names)])

    def confirm_removals(self, digest: str) -> None:
        """Let copies follow the unexplained removals that have this digest."""
        from historon.copies import confirm_removals

        confirm_removals(self.to_write(), digest)
