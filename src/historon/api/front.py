"""An estate that is open: the verbs of the program, each a method that takes values and returns values.

Secrets are masked in whatever is meant for eyes, unless it is asked otherwise. What a method alone needs is imported in
it, so that a program which only looks at the board does not load all of comparing and collecting.
"""

import signal
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from functools import cached_property
from pathlib import Path
from types import TracebackType
from typing import IO, TYPE_CHECKING, Self

from historon.api.results import Board, Changes, Collected, Difference, Found, NoiseFound, Pruning, Required
from historon.errors import StoreError, UsageError
from historon.estate import Duration, Estate, Source, nearest, select
from historon.sizes import size_text
from historon.store import (
    LARGE,
    RENAMED,
    RETIRED,
    Proof,
    Round,
    Store,
    StoredPart,
    Version,
    Visit,
    Writer,
    admit_writer,
    check_writer,
    open_store,
    proofs_of,
    stranger,
    writers_of,
)

if TYPE_CHECKING:
    from historon.api.pushing import Pushed, PushPlan
    from historon.collect import Observer, OfferedKey, Rehearsal, StepTaken
    from historon.copies import Compared, CopyStatus
    from historon.doctor import Finding
    from historon.insight import Reader, Traced, Typical, Weights
    from historon.restore import Naming, OriginalState, Restored
    from historon.retention import Pruned, Verdict
    from historon.store import Copied, Removed, Verification
    from historon.timetable import Due, OpenCondition
    from historon.versions import Masks

__all__ = ["Historon"]

_BEFORE = timedelta(days=30)  # how far back is looked for what was undone
_OF_NEW = ("overdue", "requirement-failed")  # what is open of every source that was never collected
_NAMED = 12  # parts in a message

_Clock = Callable[[], datetime]


class Historon:
    """An estate, its store, and what can be done with them. `historon.open` makes one; it is a context manager.

    `estate` is what the estate file says. Versions are named as on the command line: `edge-1`, `edge-1@17`,
    `edge-1@2026-06-14` (in the estate's own time zone), `edge-1@3d`. Instants that are handed out are in UTC.
    """

    def __init__(self, estate: Estate, *, clock: _Clock, spend_reserve: bool = False) -> None:
        """`spend_reserve` lets what frees room use the last of a full disk."""
        self.estate = estate
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
        """Let go of the store; it is opened again when it is needed again."""
        opened = self.__dict__.pop("store", None)
        if opened is not None:
            opened.close()

    @cached_property
    def store(self) -> Store:
        """The estate's store. Raises StoreError when it is not there, or is not one."""
        return open_store(self.estate, spend_reserve=self._spend_reserve, to_read=True)

    def to_write(self) -> Store:
        """The estate's store, to be written to. Raises StoreError where it is another estate's (`historon store`)."""
        check_writer(self.store, self.estate.file)
        return self.store

    def writers(self) -> list[Writer]:
        """The estate files, and their machines, that may write to the store; nobody for one that is not in use yet.

        Example: `[str(one) for one in estate.writers()]`
        """
        return writers_of(self.store)

    def stranger(self) -> str:
        """Why this estate file may not write to the store, in words; empty where it may.

        Example: `estate.stranger() == ""`
        """
        return stranger(self.store, self.estate.file)

    def take_over(self, *, beside: bool = False) -> Sequence[Writer]:
        """Let this estate file write to the store from now on, instead of others or `beside` them.

        Returns who could until now.

        Example: `estate.take_over()`
        """
        return admit_writer(self.store, self.estate.file, beside=beside)

    def become_another(self) -> None:
        """Make of the store, which was copied with its estate, one of its own: copies of the first one refuse it.

        Example: `estate.become_another()`
        """
        from historon.copies import forget_copies

        self.store.renew_key()
        forget_copies(self.store, self.estate)
        self.take_over()

    def _fingerprint_key(self) -> bytes:
        """The key by which masked secrets are distinguished; read once, so that it is there after closing."""
        if self._key is None:
            self._key = self.store.fingerprint_key()
        return self._key

    # ---- sources and versions ----------------------------------------------------------------------------------------

    def sources(self, *names: str, where: Sequence[str] = ()) -> list[Source]:
        """The sources of these names, or all; `where` narrows by labels, such as `site=northmole`.

        Raises UsageError for a name or label that there is not.

        Example: `[one.name for one in estate.sources()]`
        """
        return select(self.estate, names, where)

    def status(self, *names: str, where: Sequence[str] = ()) -> Board:
        """How fresh the sources are, and whether all is known to be well.

        Example: `estate.status().well`
        """
        from historon.timetable import open_conditions, statuses

        now = self.clock()
        sources = self.sources(*names, where=where)
        board = statuses(self.estate, sources, self.store, now)
        if not names and not where:
            return Board(board, open_conditions(self.estate, self.store, now, board=board))
        asked = {source.name for source in sources}
        found = open_conditions(self.estate, self.store, now, board=board, copies=())
        return Board(board, [one for one in found if one.source in asked])

    def versions(self, source: str) -> list[Version]:
        """All versions of a source, oldest first; also of one that the estate file no longer names.

        Raises UsageError when there is no such source.

        Example: `estate.versions("edge-1")[-1].number`
        """
        found = self.store.versions(source)
        if not found:
            why = self.store.recall(source, RETIRED) or ""
            if why.startswith(RENAMED):
                raise UsageError(f"{source} was {why}", hint=f"historon versions {why.removeprefix(RENAMED)}")
            self.sources(source)
        return found

    def version(self, written: str) -> Version:
        """The version that `SOURCE@WHEN` names. Raises UsageError when there is none, or no such source.

        Example: `estate.version("edge-1@latest").at`
        """
        from historon.versions import Reference, resolve

        reference = Reference.parse(written)
        if reference.source not in self.estate.sources:
            self.versions(reference.source)
        return resolve(self.store, reference, now=self.clock(), zone=self.estate.zone)

    def parts(self, version: Version | str) -> list[StoredPart]:
        """The parts of a version.

        Example: `[part.name for part in estate.parts("edge-1@latest")]`
        """
        found = self._version(version)
        return list(self.store.parts(found.source, found.number))

    def part(self, version: Version | str, name: str | None = None) -> StoredPart:
        """One part of a version; the name may be left out where there is only one.

        Raises UsageError when there is no such part, or which one is not said.

        Example: `estate.part("edge-1@1").size`
        """
        found = self._version(version)
        parts = self.parts(found)
        place = f"{found.source}@{found.number}"
        names = [part.name for part in parts]
        told = [part for part in parts if not part.is_tree]
        if name is None and len(told) == 1:
            return told[0]
        if name is None:
            listed = "\n".join(f"  {part}" for part in names[:_NAMED])
            more = f"\n  … and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
            raise UsageError(f"{place} has {len(parts)} parts; name one of them:\n{listed}{more}")
        if name not in names:
            raise UsageError(f'{place} has no part "{name}"', hint=nearest(name, names))
        return parts[names.index(name)]

    def read(self, version: Version | str, part: str | None = None, *, reveal: bool = False) -> bytes:
        """The content of a part, fit for eyes: secrets are masked, line for line, unless they are to be revealed.

        With `reveal` it is what was collected, byte for byte. Raises UsageError where nothing can be masked: in what is
        binary, or larger than 16 MiB.

        Example: `estate.read("edge-1@1").decode()`
        """
        from historon.bounds import begin_on
        from historon.versions import comparable, is_binary

        found = self._version(version)
        chosen = self.part(found, part)
        if reveal:
            return b"".join(self.pieces(chosen))
        command = f"historon show {found.source}@{found.number} {chosen.name} > FILE"
        if chosen.size > LARGE:
            raise UsageError(
                f"{chosen.name} is too large to mask secrets in it, {size_text(chosen.size)}", hint=command
            )
        begin_on(f"{found.source}@{found.number}")
        content = comparable(chosen, self.store)
        if is_binary(content):
            raise UsageError(f"{chosen.name} is binary, {size_text(chosen.size)}", hint=command)
        return self.masks(found.source).hide(content)

    def pieces(self, part: StoredPart) -> Iterator[bytes]:
        """A part as it was collected, secrets and all, in pieces that fit into memory, checked against its SHA-256.

        Example: `sum(map(len, estate.pieces(estate.part("edge-1@1"))))`
        """
        yield from self.store.pieces(part)

    def restore(
        self,
        version: Version | str,
        folder: str | Path,
        *,
        only: str | Sequence[str] = (),
        overwrite: bool = False,
        missing: bool = False,
        permissions: bool = False,
        outward_links: bool = False,
        naming: "Naming | None" = None,
    ) -> "Restored":
        """Write a version, or parts and places of it, to a folder, as `historon restore` does; secrets and all.

        `naming` says what the files are called, if not as the parts; with `missing` what is there is left as it is.

        Example: `estate.restore("edge-1@1", "back").files`
        """
        from historon.restore import write_version

        found = self._version(version)
        return write_version(
            self.store,
            found,
            Path(folder),
            self.masks(found.source),
            only=_listed(only),
            overwrite=overwrite,
            missing=missing,
            permissions=permissions,
            outward_links=outward_links,
            naming=naming,
        )

    def restore_tar(
        self, versions: Iterable[Version], out: IO[bytes], *, only: str | Sequence[str] = (), dated: bool = False
    ) -> int:
        """Write versions into a stream as one tar, each below its source's name; returns how many files those are."""
        from historon.restore import Naming, add_to_tar, opened_tar

        with opened_tar(out) as archive:
            return sum(
                add_to_tar(
                    archive,
                    self.store,
                    one,
                    self.masks(one.source),
                    only=_listed(only),
                    naming=Naming(at=one.at if dated else None, below=one.source),
                )
                for one in versions
            )

    def originals(
        self, version: Version | str, *, only: str | Sequence[str] = (), missing: bool = False
    ) -> "OriginalState":
        """How the files of a version are now where they were collected from, on this machine: the plan of restoring.

        With `missing` only what is not there counts.
        """
        from historon.restore import originals

        found = self._version(version)
        source = self.estate.sources[found.source]
        return originals(self.estate, source, self.store, found, _listed(only), missing=missing)

    def restore_over_originals(self, plan: "OriginalState") -> "Restored":
        """Restore to their places the files of a plan (see `originals`), and nothing else."""
        from historon.restore import give_back

        return give_back(self.store, plan)

    def prove(self, version: Version | str) -> "Proof":
        """Try by its procedure's `proof` whether a version would do; the verdict stays with it.

        UsageError where the procedure has none.
        """
        from historon.restore import prove

        found = self._version(version)
        source = self.estate.sources[found.source]
        return prove(self.store, source, self.estate.procedure_of(source), found, self.clock())

    def plan_push(self, version: Version | str, *, only: str | None = None) -> "PushPlan":
        """Take a fresh export of a version's source, and say what bringing the version back would change there.

        Raises UsageError where its procedure has no `push`, OutsideError where it cannot be collected now.
        """
        from historon.api.pushing import plan_push

        return plan_push(self, self._version(version), only)

    def push(self, plan: "PushPlan") -> "Pushed":
        """Bring a version back to its source as planned, collect again, and say whether the source is as wanted.

        Raises OutsideError, and changes nothing, where the source is no longer as it was when that was planned.
        """
        from historon.api.pushing import push

        return push(self, plan)

    def lines_to(
        self, version: Version | str, *, only: str | None = None, reveal: bool = False
    ) -> "dict[str, list[str]]":
        """The lines that lead from a source's last good version to another, by part; secrets are masked.

        Raises UsageError where they cannot be calculated.

        Example: `estate.lines_to("edge-1@1")`
        """
        from historon.api.pushing import lines_to

        return lines_to(self, self._version(version), only, reveal=reveal)

    def proofs(self, source: str) -> "dict[int, Proof]":
        """What is on record of the proofs of a source's versions, by their numbers.

        Example: `estate.proofs("edge-1")`
        """
        return proofs_of(self.store, source, self.estate.proof_digests.get(source))

    def masks(
        self,
        source: str,
        *,
        reveal: bool = False,
        with_noise: bool = False,
        ignore_case: bool = False,
        ignore_space: bool = False,
    ) -> "Masks":
        """What is left out of comparisons and of sight, by the source's procedure.

        Of a source that the estate file no longer names these are the general ones alone.
        """
        from historon.versions import Masks

        known = self.estate.sources.get(source)
        procedure = self.estate.procedure_of(known) if known else None
        return Masks.of(
            procedure,
            key=self._fingerprint_key(),
            reveal=reveal,
            with_noise=with_noise,
            ignore_case=ignore_case,
            ignore_space=ignore_space,
        )

    def _version(self, version: Version | str) -> Version:
        return self.version(version) if isinstance(version, str) else version

    # ---- what changed ------------------------------------------------------------------------------------------------

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
        """What differs between two versions, two sources, or a version and a `file:PATH`.

        Of a bare source alone it is its last change, of `SOURCE@WHEN` alone what changed from then to its latest.
        `only` is a part, or what stands under a path of the outline. Raises UsageError when there is no such thing.

        Example: `[change.words for part in estate.diff("edge-1@1", "edge-1@2").parts for change in part.changes]`
        """
        from historon.api.sides import narrowed, sides_of
        from historon.compare import compare_exports

        source, before, after = sides_of(self.store, self.version, old, new, only)
        masks = self.masks(
            source, reveal=reveal, with_noise=with_noise, ignore_case=ignore_case, ignore_space=ignore_space
        )
        changes = compare_exports(before.contents, after.contents, masks)
        if only is not None:
            changes = narrowed(changes, only, [before, after])
        return Difference(before, after, changes, self.weights)

    @cached_property
    def weights(self) -> "Weights":
        """How much changes matter, by the shipped table and the estate's own."""
        from historon.insight import Weights

        return Weights(self.estate.weights)

    def typical(self, *names: str, where: Sequence[str] = ()) -> "Typical":
        """How each of these sources differs from what most of them have, by their latest good versions.

        Raises UsageError where fewer than three have one.

        Example: `estate.typical()`
        """
        from historon.api.looking import typical_of

        return typical_of(self, self.sources(*names, where=where))

    def changes(self, since: str | datetime = "7d", *, where: Sequence[str] = ()) -> Changes:
        """What changed across the estate since then: an age such as `7d`, a date, or an instant with its zone.

        The same edit on many sources is one family. Raises UsageError for what is no age and no date.

        Example: `len(estate.changes("30d").families)`
        """
        from historon.insight import families, fingerprinted

        began, now = self.moment(since), self.clock()
        chosen = {source.name for source in self.sources(where=where)} if where else None
        recorded = (one for one in self.store.changed(began, now) if chosen is None or one.source in chosen)
        changed = list(fingerprinted(self.store, recorded, self._rules))
        before = self.store.changed(began - _BEFORE, began)
        return Changes(changed, families(changed, before), self.store, self._rules)

    def moment(self, since: str | datetime) -> datetime:
        """The instant that an age (`7d`), a date or an instant stands for; without a zone it is in the estate's own."""
        if isinstance(since, datetime):
            return since
        try:
            if since[:4].isdigit() and "-" in since:
                written = datetime.fromisoformat(since)
                return written if written.tzinfo else written.replace(tzinfo=self.estate.zone)
            return self.clock() - Duration.parse(since)
        except (ValueError, OverflowError) as exc:
            raise UsageError(f"--since {since}: {exc}", hint="write an age such as 24h or 7d, or a date") from exc

    def _rules(self, name: str) -> "tuple[Masks, Reader]":
        from historon.insight import Reader

        source = self.estate.sources.get(name)
        return self.masks(name), Reader(source.own_names if source else (name,), (), self.weights)

    # ---- looking for something ---------------------------------------------------------------------------------------

    def find(
        self,
        text: str,
        *,
        where: Sequence[str] = (),
        at: str | None = None,
        ever: bool = False,
        expression: bool = False,
        exact_case: bool = False,
        reveal: bool = False,
    ) -> Found:
        """Where a text stands now, was at a moment, or ever was, line by line.

        `at` is a date, an instant or an age. Raises UsageError when the text is none, or the expression has a mistake.

        Example: `estate.find("time-server").hits`
        """
        from historon.api.looking import checked_query, found_at, found_ever

        query = checked_query(text, expression=expression, exact_case=exact_case)
        if ever and at:
            raise UsageError("--ever searches all versions, --at those of one instant", hint="give only one of them")
        names = [source.name for source in self.sources(where=where)]
        if ever:
            return found_ever(self, names, query, reveal=reveal)
        self._fingerprint_key()  # hits are masked when they are looked at, maybe when the store is closed again
        return found_at(self, names, at, query, reveal=reveal)

    def trace(
        self, source: str, text: str, *, expression: bool = False, exact_case: bool = False, reveal: bool = False
    ) -> "Traced":
        """The lives of the lines that hold a text, or held it: when each came, what it was, when it went.

        Example: `estate.trace("edge-1", "time-server").lives`
        """
        from historon.api.looking import checked_query
        from historon.insight import trace

        query = checked_query(text, expression=expression, exact_case=exact_case)
        return trace(self.store, self._good(source), query, self.masks(source, reveal=reveal))

    def oldest_kept(self, source: str) -> int | None:
        """The number of a source's oldest good version, where others before it were removed; None where none was.

        What is in it may have been there before.
        """
        good = self._good(source)
        removed = [one.number for one in self.store.removed(source)]
        return good[0].number if good and removed and min(removed) < good[0].number else None

    def noise(self, source: str) -> NoiseFound:
        """What differs in nearly every version of a source, as masks that its history speaks for.

        Example: `estate.noise("edge-1")`
        """
        from historon.insight import study

        (known,) = self.sources(source)
        history = self._good(source)
        found = study(self.store, history, self.masks(source))
        return NoiseFound(found, len(history), len(self.estate.procedure_of(known).noise))

    def requirements(self, *names: str, where: Sequence[str] = ()) -> list[Required]:
        """How the sources of which something is required stand to it, by their latest good versions.

        Example: `[one.source.name for one in estate.requirements()]`
        """
        from historon.api.looking import required_of

        return required_of(self, self.sources(*names, where=where))

    def _good(self, source: str) -> list[Version]:
        """The good versions of a source, oldest first; UsageError when there is no such source."""
        found = [version for version in self.store.versions(source) if version.good]
        if not found:
            self.sources(source)
        return found

    # ---- what changes the store --------------------------------------------------------------------------------------

    def collect(
        self,
        *names: str,
        where: Sequence[str] = (),
        observer: "Observer | None" = None,
        trust: "Callable[[Mapping[str, OfferedKey]], bool] | None" = None,
        stopped_by: Sequence[signal.Signals] = (),
    ) -> Collected:
        """Collect from these sources, or all, now: one round; then tell the channels what is to be reported.

        `observer` hears how each source fares. Host keys that are shown for the first time are refused, unless `trust`
        says of them, by source, that they may be remembered: then those sources are collected from again. Signals in
        `stopped_by` end the round cleanly; that needs the main thread. Raises OutsideError when a round must not begin.

        Example: `[one.outcome for one in estate.collect("edge-1").report.results]`
        """
        from historon.api.rounds import collect

        every = not names and not where
        return collect(self, self.sources(*names, where=where), observer, trust, stopped_by, every=every)

    def unfinished(self, *names: str, where: Sequence[str] = ()) -> list[Source]:
        """The sources that the last round did not come to, as it was interrupted."""
        from historon.collect import unfinished_sources

        return unfinished_sources(self.store, self.sources(*names, where=where))

    def rehearse(self, source: str, *, told: "Callable[[StepTaken], None] | None" = None) -> "Rehearsal":
        """Go through the procedure of a source for real, storing nothing; `told` hears of each step."""
        import asyncio

        from historon.collect import rehearse

        (known,) = self.sources(source)
        hear = told or (lambda step: None)
        return asyncio.run(rehearse(self.estate, known, self.store, clock=self.clock, told=hear))

    def plan_prune(
        self,
        *names: str,
        where: Sequence[str] = (),
        retention: str | None = None,
        as_of: datetime | None = None,
    ) -> "dict[str, list[Verdict]]":
        """By source, which versions retention lets stay and which may go; without those that keep everything.

        With another `retention`, or `as_of` another instant than now, it is what would be. Raises UsageError when there
        is no such retention.

        Example: `estate.plan_prune("edge-1")`
        """
        from historon.retention import plans_of

        if retention is not None and retention not in self.estate.retention:
            hint = nearest(retention, self.estate.retention) or "add one to [retention] in the estate file"
            raise UsageError(f'there is no retention "{retention}"', hint=hint)
        sources = self.sources(*names, where=where)
        return plans_of(self.estate, sources, self.store, as_of or self.clock(), retention)

    def clock_doubt(self) -> str:
        """Why this machine's clock may be wrong, so that nothing should be pruned by it; empty for no doubt."""
        from historon.retention import clock_doubt

        return clock_doubt(self.store, self.clock())

    def prune(self, plans: "Mapping[str, Sequence[Verdict]]") -> "Pruned":
        """Remove what the plans let go. A source's last good version and held ones always stay.

        Example: `estate.prune(estate.plan_prune("edge-1")).versions`
        """
        from historon.retention import note_retention, prune

        done = prune(self.to_write(), [verdict for one in plans.values() for verdict in one], self.clock())
        note_retention(self.estate, self.store, plans)
        return done

    def too_many_to_prune(self, plans: "Mapping[str, Sequence[Verdict]]") -> str:
        """Why these plans are to be looked at before they are carried out; empty when they need not be.

        Example: `estate.too_many_to_prune(estate.plan_prune())`
        """
        from historon.retention import shortened, too_many, too_many_of

        limit = self.estate.settings.prune_limit
        going = [name for name, plan in plans.items() if not all(one.stays for one in plan)]
        each = {**too_many_of(plans, limit), **shortened(self.estate, self.store, going)}
        return too_many(plans, limit) or next(iter(each.values()), "")

    def prunings(self, *names: str, where: Sequence[str] = ()) -> "list[Pruning]":
        """What was removed, newest first: each time once, by the service or by hand, with how many of which source."""
        from historon.api.looking import prunings

        chosen = [one.name for one in self.sources(*names, where=where)] if names or where else None
        return prunings(self.store, chosen)

    def pruned_versions(self, *names: str, where: Sequence[str] = (), since: str | datetime | None = None) -> int:
        """How many versions of these sources, made since then, were removed: what they changed is not known any more.

        Example: `estate.pruned_versions("edge-1", since="7d")`
        """
        chosen = {one.name for one in self.sources(where=where)} if where else self.store.states().keys()
        began = self.moment(since) if since is not None else None
        renamed = {name for name, why in self.store.recall_all(RETIRED).items() if why.startswith(RENAMED)}
        removed = [one for name in {*(names or chosen)} - renamed for one in self.store.removed(name)]
        return sum(began is None or one.at is None or one.at >= began for one in removed)

    def removed(self, source: str) -> "list[Removed]":
        """The versions of a source that were removed, with the rule by which they went."""
        return list(self.store.removed(source))

    def hold(self, version: Version | str, reason: str | None) -> None:
        """Keep a version whatever retention says, for this reason; None ends it.

        Example: `estate.hold("edge-1@1", "before the change of provider")`
        """
        found = self._version(version)
        self.to_write().hold(found.source, found.number, reason)

    def vouch(self, version: Version | str) -> Version:
        """Mark a suspect version as good. Raises UsageError for one that is good already."""
        from historon.collect import vouch

        return vouch(self.estate, self.to_write(), self._version(version))

    def withdraw_vouch(self, version: Version | str) -> Version:
        """Mark a version as suspect again that a person vouched for. Raises UsageError for any other."""
        from historon.collect import withdraw_vouch

        return withdraw_vouch(self.to_write(), self._version(version))

    def verify(self, *names: str, told: Callable[[str], None] | None = None) -> "Verification":
        """Read every version of these sources, or all, from the disk and check it; `told` hears of each source.

        Raises UsageError for a source that nothing was ever collected from.

        Example: `estate.verify("edge-1").well`
        """
        from historon.store import verify

        known = sorted(self.store.states())
        for name in names:
            if name not in known:
                raise UsageError(f'nothing was ever collected from "{name}"', hint=nearest(name, known))
        return verify(self.store, list(names) or known, told or (lambda source: None))

    # ---- the machine, the timetable, second places -------------------------------------------------------------------

    def doctor(self, *, where: Sequence[str] = ()) -> "list[Finding]":
        """What is wrong, or will be, as far as it can be known without contacting a source; what is wrong comes first.

        With `where` only what is about these sources, their procedures and their accounts.

        Example: `[finding.what for finding in estate.doctor()]`
        """
        from historon.doctor import Finding, examine

        only = self.sources(where=where) if where else None
        asked = None if only is None else {source.name for source in only}
        try:
            store: Store | StoreError = self.store
            conditions = [one for one in self.open() if asked is None or one.source in asked]
            new = {one.source for one in conditions if one.is_new}  # of which it speaks itself
            known = [one for one in conditions if one.source not in new or one.kind not in _OF_NEW]
            opened = [Finding(one.is_grave, one.subject, one.words, one.advice) for one in known]
        except StoreError as exc:
            store, opened = exc, []
        found = examine(self.estate, store, now=self.clock(), only=only)
        return sorted([*opened, *found], key=lambda finding: not finding.wrong)

    def retire(self, source: str, why: str) -> None:
        """Note why a source that has versions is no longer described: that it is not is then no mistake.

        Raises UsageError when there is no such source, or when it is still described.

        Example: `[estate.retire(one.source, "sold") for one in estate.open() if one.kind == "not-described"]`
        """
        if source in self.estate.sources:
            hint = f"remove it from {self.estate.file} first"
            raise UsageError(f"{source} is still in the estate file: it is collected", hint=hint)
        if source not in self.missing():
            self.versions(source)
        self.to_write().remember(source, RETIRED, why)

    def rename(self, old: str, new: str) -> int:
        """Let the versions of a source go on under another name; returns how many there are.

        Raises UsageError where the estate file does not describe the new name, or still the old one; StoreError where
        the new one has versions already.

        Example: `estate.rename("edge-1", "edge-9") if "edge-9" in estate.estate.sources else None`
        """
        if old in self.estate.sources:
            raise UsageError(f"{old} is still in the estate file", hint=f"rename it to {new} in the estate file first")
        self.sources(new)
        if not self.store.versions(old):
            raise UsageError(f'"{old}" has no versions', hint=nearest(old, self.store.states()))
        return self.to_write().rename(old, new, self.clock())

    def missing(self) -> list[str]:
        """The sources that have versions, or that the estate had before, and that nobody describes or retired.

        Example: `estate.missing()`
        """
        from historon.timetable.accepted import accepted_estate

        was = accepted_estate(self.store, self.estate.file)
        known = {name for name, state in self.store.states().items() if state.good is not None}
        known |= was.sources.keys() if was is not None else set()
        return sorted(known - self.estate.sources.keys() - self.store.recall_all(RETIRED).keys())

    def open(self) -> "list[OpenCondition]":
        """All that needs attention now, the gravest first: all is well when there is nothing. Raises StoreError.

        Example: `[str(one) for one in estate.open()]`
        """
        from historon.timetable import open_conditions

        return open_conditions(self.estate, self.store, self.clock())

    def agenda(self, span: timedelta, *names: str, where: Sequence[str] = ()) -> "list[Due]":
        """What is due from now on for so long, in order. Nothing is collected."""
        from historon.timetable import agenda

        now = self.clock()
        return list(agenda(self.estate, self.sources(*names, where=where), now, now + span))

    def rounds(self, last: int, *, where: Sequence[str] = ()) -> list[Round]:
        """The last rounds, newest first; with `where` only the outcomes of these sources are counted.

        Example: `estate.rounds(1)[0].outcomes`
        """
        found = list(self.store.rounds(last))
        if not where:
            return found
        return [
            replace(one, outcomes=Counter(visit.outcome for visit in self._visits(one.number, where))) for one in found
        ]

    def visits(self, number: int, *, where: Sequence[str] = ()) -> list[Visit]:
        """The outcome of each source in a round. Raises UsageError when there is no such round."""
        found = self._visits(number, where)
        if not found and not (where and self._visits(number)):
            raise UsageError(f"there is no round {number}", hint="historon rounds")
        return found

    def _visits(self, number: int, where: Sequence[str] = ()) -> list[Visit]:
        asked = {source.name for source in self.sources(where=where)} if where else None
        return [visit for visit in self.store.visits(number) if asked is None or visit.source in asked]

    def copies(self, *names: str) -> "list[CopyStatus]":
        """How far these copies, or all, are behind the store. Raises UsageError when there is no such copy."""
        from historon.api.copying import known_copies
        from historon.copies import copies_of

        chosen = known_copies(self.estate, *names)
        return [one for one in copies_of(self.estate, self.store, self.clock()) if one.name in chosen]

    def update_copy(self, name: str) -> "Copied":
        """Bring a copy up to date, and write again what was found damaged in it.

        Raises RefusedError, and changes no copy, where the copy and the store contradict each other.
        """
        from historon.api.copying import update_copy

        return update_copy(self, name)

    def compare_copies(self, *names: str) -> "Compared":
        """Which places agree on the digest of each version: the store and these copies, or all. Nothing is changed."""
        from historon.api.copying import known_copies
        from historon.copies import compare_places

        return compare_places(self.estate, self.store, known_copies(self.estate, *names))

    def confirm_removals(self, digest: str) -> None:
        """Let copies follow the removals that nothing but a person explains, and that this digest stands for."""
        from historon.copies import confirm_removals

        confirm_removals(self.to_write(), digest)

    def verify_copy(self, name: str, *, sample: int | None = None) -> "Verification":
        """Read every version in a copy and check it, as `verify` does in the store; or a sample of so much of it."""
        from historon.api.copying import verify_copy

        return verify_copy(self, name, sample)


def _listed(only: str | Sequence[str]) -> tuple[str, ...]:
    """One part or place, or several, as several."""
    return (only,) if isinstance(only, str) else tuple(only)
