"""From an export to what the ledger should say of it: whether it is new, noise, or doubtful, and what changed.

All that looks at what a device sent happens in `answer`, stage by stage, in a process that may be ended at any moment
(see base.workers). What the stages gave until then is put together in `judged`: nothing that is missing counts as
well.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from types import MappingProxyType
from typing import IO

import msgspec

from historon.base.errors import where_raised
from historon.base.workers import Done, Workers
from historon.compare import Change, PartChange, compare_exports, folded, is_archive
from historon.estate import Procedure, Requirement, Share, Source
from historon.insight import (
    Fingerprint,
    Reader,
    Unmet,
    each_fingerprint,
    fingerprint,
    grave_first,
    packed,
    signature,
    texts_of,
    unmet,
)
from historon.inspection import MOST_PAST, Inspection, Kept, Past, inspect
from historon.store import LARGE, Outcome, Part, State, Store, StoredPart, proofs_of
from historon.versions import Masks, belongs_to, comparable

__all__ = ["ChangedLine", "Judged", "Question", "answer", "changed_lines", "judge", "judged", "question_about"]

_LINES = 200  # of one version's changes that are kept for telling
_WIDTH = 300
_PAST_CONTENTS = 4  # earlier good versions of which the contents are looked at, not the sizes alone
_PAST_PARTS = 8  # that differ: of a folder its size tells
_LOOKED_AT, _ALIKE = 4096, 0.2  # bytes, and how many of the lines in them are there again
_LAST_LINE = 200  # bytes

_Contents = Mapping[str, bytes]


class ChangedLine(msgspec.Struct, frozen=True, array_like=True):
    """One change in a part, in words and masked; by `key` its family is known; `why` it is grave, where it is known."""

    part: str
    text: str
    key: bytes
    why: str = ""


@dataclass(frozen=True)
class Judged:
    """An export with its verdict, ready to become an entry; `as_it_was` when it is the last one byte for byte.

    `doubts` make it suspect; `remarks` are what could not be looked into or compared. What changed is reported in
    `lines`
    and in the fingerprints of `families`. `unmet` is what of the source's requirements it does not meet, or None where
    that was not asked.
    """

    outcome: Outcome
    parts: Sequence[Part | StoredPart]
    state: State = State.GOOD
    added: int = 0
    removed: int = 0
    lines: Sequence[ChangedLine] = ()
    families: bytes = b""
    doubts: Sequence[str] = ()
    remarks: Sequence[str] = ()
    signature: bytes | None = None
    as_it_was: bool = False
    unmet: Sequence[Unmet] | None = None


@dataclass(frozen=True)
class Question:
    """All that judging an export takes, read from the store beforehand: the answer touches no store.

    `before` are the parts of the last good version, None without one; `sides` the contents of the parts that differ,
    before and now. `signed` says whether the source has a signature already; None where none is kept. `reader` is how
    its changes are read, `rules` are the requirements that it is to be checked against. `doubts` are what is known to
    be wrong with just this export. `past` are good versions from before the last, by which it is
    measured, where it became smaller or ends differently.
    """

    kept: Sequence[Kept]
    procedure: Procedure
    masks: Masks = field(repr=False)
    max_shrink: Share
    before: Mapping[str, StoredPart] | None
    sides: tuple[_Contents, _Contents] = field(repr=False)
    signed: bool | None
    reader: Reader
    rules: Sequence[Requirement] = ()
    doubts: Sequence[str] = ()
    past: Sequence[Past] = field(default=(), repr=False)
    daily: bool = False

    def handed_over(self) -> "tuple[Question, list[IO[bytes]]]":
        """The question without the files of its large parts, and those files, to be put in again by `with_files`."""
        files = [one.part.spool for one in self.kept if one.part.spool is not None]
        kept = [replace(one, part=replace(one.part, spool=None)) for one in self.kept]
        return replace(self, kept=kept), files

    def with_files(self, files: Sequence[IO[bytes]]) -> "Question":
        """The question with the files of its large parts."""
        left = list(files)
        kept = []
        for one in self.kept:
            if one.part.spooled and left:
                kept.append(replace(one, part=replace(one.part, spool=left.pop(0))))
            else:
                kept.append(one)
        return replace(self, kept=kept)


# ---- what happens in the other process -------------------------------------------------------------------------------


class _Compared(msgspec.Struct, frozen=True, tag=True):
    """Whether and what it changed; `follows` are names of parts that stay what they were, as they follow others."""

    changed: bool
    follows: Sequence[str] = ()
    added: int = 0
    removed: int = 0
    lines: Sequence[ChangedLine] = ()
    families: bytes = b""


class _Signed(msgspec.Struct, frozen=True, tag=True):
    bits: bytes


class _Checked(msgspec.Struct, frozen=True, tag=True):
    unmet: Sequence[Unmet]


class _Trouble(msgspec.Struct, frozen=True, tag=True):
    """Something that could not be done, and why; the stages after it are taken anyway."""

    what: str


_Stage = Inspection | _Compared | _Signed | _Checked | _Trouble


def answer(question: Question, files: Sequence[IO[bytes]] = ()) -> Iterator[_Stage]:
    """The stages of judging. Whatever goes wrong while foreign bytes are looked at is reported, and raises nothing."""
    question = question.with_files(files)
    try:
        inspection = inspect(
            question.kept,
            question.procedure,
            question.before or {},
            question.sides[0],
            question.max_shrink,
            question.past,
        )
    except Exception as exc:
        inspection = Inspection([f"the export could not be inspected: {where_raised(exc)}"])
    inspection.doubts.extend(question.doubts)
    yield inspection
    follows: Sequence[str] = ()
    try:
        compared = _compared(question, suspect=bool(inspection.doubts))
        follows = compared.follows
        yield compared
    except Exception as exc:
        yield _Trouble(f"not compared with the version before: {where_raised(exc)}")
    if inspection.doubts:
        return
    yield from _signed(question)
    if question.rules:
        yield _checked(question, follows)


def _compared(question: Question, *, suspect: bool) -> _Compared:
    changes = compare_exports(*question.sides, question.masks)
    before = question.before
    if suspect or before is None:
        return _told(changes, question.reader.learning(texts_of(changes)), changed=True)
    names = {change.name for change in changes}
    follows = []
    for one in question.kept:
        if not one.step.follows or one.part.name not in before:
            continue
        if not any(belongs_to(name, one.step.follows) for name in names):
            follows.append(one.part.name)
    quiet = [*follows, *(one.part.name for one in question.kept if one.step.record_only)]
    telling = [one for one in changes if not any(belongs_to(one.name, name) for name in quiet)]
    learnt = question.reader.learning(texts_of(changes))
    return _told(telling, learnt, changed=bool(telling), follows=follows)


def _told(changes: Sequence[PartChange], reader: Reader, *, changed: bool, follows: Sequence[str] = ()) -> _Compared:
    """What is to be kept and reported of changes."""
    added, removed = sum(one.added for one in changes), sum(one.removed for one in changes)
    made = each_fingerprint(changes, reader)
    families = packed(grave_first(made.values()))
    return _Compared(changed, follows, added, removed, changed_lines(changes, reader, made), families)


def changed_lines(
    changes: Sequence[PartChange], reader: Reader, made: Mapping[tuple[str, Change], Fingerprint] = MappingProxyType({})
) -> list[ChangedLine]:
    """The changes of a version as they are reported, no more than anybody reads; of many that are alike two.

    `made` are their fingerprints, as far as there are any.
    """
    found = ((part.name, one, more) for part in changes[:_LINES] for one, more in folded(part.changes))
    lines = []
    for part, one, more in islice(found, _LINES):
        known = made.get((part, one)) or fingerprint(part, one, reader)
        lines.append(ChangedLine(part, _words(one, more), known.key, reader.weights.of(one).warning))
    return lines


def _words(change: Change, more: int) -> str:
    """A change in a line, with how many more there are like it."""
    words = f"{change.sign} {change.path}{': ' if change.path else ''}{change.words}"
    words = f"{words}; {change.uses}" if change.uses else words
    if more:
        return f"{words[:_WIDTH]}; and {more:,} more like it, at other places"
    return words[:_WIDTH]


def _signed(question: Question) -> Iterator[_Stage]:
    """What is new in the export to be found by; all of it where nothing is kept yet.

    Where it cannot be made the source is searched by reading it.
    """
    if question.signed is None or not any(question.sides):
        return
    try:
        if question.signed:
            yield _Signed(signature(*question.sides))
        else:
            whole = {one.part.name: one.part.content for one in question.kept if one.part.spool is None}
            yield _Signed(signature({}, whole))
    except Exception as exc:
        yield _Trouble(f"not indexed: {where_raised(exc)}")


def _checked(question: Question, follows: Sequence[str]) -> _Stage:
    contents = {one.part.name: comparable(one.part) for one in question.kept}
    contents |= {name: question.sides[0][name] for name in follows if name in question.sides[0]}
    large = {
        one.part.name: one.part.spool
        for one in question.kept
        if one.part.spool is not None and one.part.name not in follows and is_archive(one.part.edges)
    }
    try:
        return _Checked(unmet(question.rules, contents, question.masks, large))
    except Exception as exc:
        return _Trouble(f"requirements not checked: {where_raised(exc)}")


# ---- what is made of it ----------------------------------------------------------------------------------------------


async def judge(workers: Workers, source: str, question: Question) -> Judged:
    """Inspect an export and compare it with the source's last good version, within limits of time and memory."""
    handed_over, files = question.handed_over()
    return judged(question, await workers.run(source, answer, handed_over, files=files, reply=_Stage))


def judged(question: Question, done: Done) -> Judged:
    """The verdict. Where the stages broke off, `done.trouble` says why: that makes what they had to say unknown."""
    found: dict[type, _Stage] = {type(stage): stage for stage in done.pieces}
    remarks = [stage.what for stage in done.pieces if isinstance(stage, _Trouble)]
    inspection = found.get(Inspection) or Inspection([f"the export could not be inspected: {done.trouble}"])
    assert isinstance(inspection, Inspection)  # noqa: S101 (by its key)
    compared = found.get(_Compared)
    if done.trouble and compared is None and Inspection in found:
        remarks.append(f"not compared with the version before: {done.trouble}")
    made = _outcome(question, inspection, compared if isinstance(compared, _Compared) else None)
    signed, checked = found.get(_Signed), found.get(_Checked)
    if made.state is not State.SUSPECT and question.rules:
        unknown = [Unmet(rule.name, unknown="it could not be checked", why=rule.why) for rule in question.rules]
        made = replace(made, unmet=checked.unmet if isinstance(checked, _Checked) else unknown)
    return replace(
        made,
        remarks=[*remarks, *inspection.unknown, *made.remarks],
        signature=signed.bits if isinstance(signed, _Signed) else None,
    )


def _outcome(question: Question, inspection: Inspection, compared: _Compared | None) -> Judged:
    """What an export is. One that could not be compared counts as changed: sameness is not shown."""
    new: dict[str, Part | StoredPart] = {one.part.name: one.part for one in question.kept}
    told = compared or _Compared(changed=True)
    left_out: list[str] = []
    if question.before is not None and not question.daily:
        left_out = [name for name in told.follows if question.before[name].sha256 != new[name].sha256]
        new |= {name: question.before[name] for name in told.follows}
    remarks = [f"{name} differs; it is stored once a day while what it follows is unchanged" for name in left_out]
    parts = [*new.values()]
    sums = {"added": told.added, "removed": told.removed, "lines": told.lines}
    if inspection.doubts:
        return Judged(Outcome.SUSPECT, parts, State.SUSPECT, doubts=inspection.doubts, **sums)  # type: ignore[arg-type]
    if question.before is None:
        return Judged(Outcome.NEW, parts, **sums)  # type: ignore[arg-type]
    if not told.changed:
        return Judged(Outcome.UNCHANGED, parts, State.NOISE, remarks=remarks, as_it_was=not any(question.sides))
    return Judged(Outcome.CHANGED, parts, families=told.families, remarks=remarks, **sums)  # type: ignore[arg-type]


# ---- what is asked ---------------------------------------------------------------------------------------------------


def question_about(
    store: Store,
    source: Source,
    procedure: Procedure,
    kept: Sequence[Kept],
    masks: Masks,
    reader: Reader,
    rules: Sequence[Requirement] = (),
    doubts: Sequence[str] = (),
    *,
    daily: bool = False,
) -> Question:
    """What is to be found out about an export, with all that the store knows, and `doubts` that are known already.

    With `daily` parts that follow others are stored as they are: the first export of a day. StoreError when the store
    cannot be read.
    """
    good = store.state(source.name).good
    names = {was: one.part.name for one in kept if (was := one.step.was) is not None}
    before = _by_name(store.parts(source.name, good), names) if good is not None else None
    sides = _differing(store, before or {}, {one.part.name: one.part for one in kept})
    signed = store.signed(source.name) if store.indexed else None
    share = source.max_shrink if source.max_shrink is not None else procedure.max_shrink
    failed = _proof_that_failed(store, source, procedure, kept) if procedure.proof_decides else ""
    known = [*doubts, *filter(None, [failed])]
    past = _past(store, source.name, sides, names) if before else ()
    return Question(kept, procedure, masks, share, before, sides, signed, reader, rules, known, past, daily)


def _by_name(parts: Sequence[StoredPart], names: Mapping[str, str]) -> dict[str, StoredPart]:
    """The parts of a version by the names that they have now: a step may say what its part was called."""
    known = {part.name: part for part in parts}
    for was, name in names.items():
        if was in known and name not in known:
            known[name] = replace(known.pop(was), name=name)
    return known


def _past(store: Store, source: str, sides: tuple[_Contents, _Contents], names: Mapping[str, str]) -> Sequence[Past]:
    """The good versions before the last one, as far as this export is measured by them.

    That is where a part became smaller, or ends differently: it costs what reading them costs.
    """
    was, now = sides
    telling = {name for name in was.keys() & now.keys() if _is_telling(was[name], now[name])}
    if not telling and sum(map(len, was.values())) <= sum(map(len, now.values())):
        return ()
    past = []
    for number, one in enumerate(store.last_good(source, MOST_PAST)[1:]):
        there = store.parts(source, one.number) if len(telling) <= _PAST_PARTS else []
        parts = _by_name(there, names).values()
        ours = [part for part in parts if part.name in telling]
        read = ours if number < _PAST_CONTENTS else []
        contents = {part.name: store.read(part) for part in read if part.size <= LARGE}
        past.append(Past(one.size, {part.name: part.size for part in ours}, contents))
    return past


def _is_telling(was: bytes, now: bytes) -> bool:
    """Whether a part became smaller, ends differently, or begins with nothing that it began with."""
    if len(now) < len(was) or _end(now) != _end(was):
        return True
    heads = [set(content[:_LOOKED_AT].split(b"\n")) for content in (was, now)]
    return len(heads[0] & heads[1]) < len(heads[0]) * _ALIKE


def _end(content: bytes) -> bytes:
    return content[-_LAST_LINE:].rpartition(b"\n")[2] or content[-_LAST_LINE:].rstrip().rpartition(b"\n")[2] + b"\n"


def _proof_that_failed(store: Store, source: Source, procedure: Procedure, kept: Sequence[Kept]) -> str:
    """Why an export would not do that is, byte for byte, the last one whose proof failed; empty when it is not."""
    known = proofs_of(store, source.name, procedure.proof_digest)
    failed = [(number, proof) for number, proof in known.items() if proof.verdict == "failed"]
    if not failed:
        return ""
    number, proof = max(failed, key=lambda one: one[0])
    version = store.version(source.name, number)
    if version is None or version.good:
        return ""
    there = {(part.name, part.sha256) for part in store.parts(source.name, number)}
    same = there == {(one.part.name, one.part.sha256) for one in kept}
    return f"it equals @{number}, whose proof failed: {proof.why}" if same else ""


def _differing(store: Store, before: Mapping[str, StoredPart], new: Mapping[str, Part]) -> tuple[_Contents, _Contents]:
    """The contents of the parts that are not the same, before and now."""
    differing = [
        name
        for name in before.keys() | new.keys()
        if name not in before or name not in new or before[name].sha256 != new[name].sha256
    ]
    texts_before = {name: comparable(before[name], store) for name in differing if name in before}
    texts_now = {name: comparable(new[name]) for name in differing if name in new}
    return texts_before, texts_now
