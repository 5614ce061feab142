"""Bringing a version back to its source, and showing that it is there."""

import asyncio
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from historon.api.results import Difference
from historon.collect import Failure, Wanted, push_parts
from historon.compare import unified
from historon.errors import OutsideError, UsageError
from historon.estate import Lines, Procedure, Source
from historon.notices import Event, Notifier
from historon.restore import lines_between
from historon.store import LARGE, Outcome, StoredPart, Version, note_push
from historon.versions import is_binary

if TYPE_CHECKING:
    from historon.api.front import Historon

__all__ = ["PushPlan", "Pushed", "lines_to", "plan_push", "push"]

_DIGEST = 12  # hexadecimal digits


@dataclass(frozen=True)
class PushPlan:
    """What a push would do: `difference` leads from the `present` export, which was just taken, to the one `wanted`.

    `parts` are those that differ byte for byte, `lines` what is typed for each, where lines are typed. By `digest` the
    change is known: of the same two contents of the same source it is the same.
    """

    wanted: Version
    present: Version
    difference: Difference
    parts: Sequence[str]
    lines: Mapping[str, Sequence[str]] = field(repr=False)
    digest: str = ""

    @property
    def needed(self) -> bool:
        """Whether anything differs that is no noise."""
        return bool(self.difference.parts)

    @property
    def way_back(self) -> str:
        """The command that brings back what was there before."""
        return f"historon push {self.present.source}@{self.present.number}"


@dataclass(frozen=True)
class Pushed:
    """What came of a push; `failure` says why its steps did not end well.

    What the source holds all the same is told by the export that was taken afterwards: `left` is what still differs,
    None where there is no such export, for the reason `unknown`.
    """

    plan: PushPlan
    failure: Failure | None
    left: Difference | None
    unknown: str = ""

    @property
    def well(self) -> bool:
        """Whether all steps ended well, and the source is as wanted, noise aside."""
        return self.failure is None and self.left is not None and not self.left.parts


def plan_push(opened: "Historon", version: Version, only: str | None) -> PushPlan:
    """Take a fresh export, and compare it; see Historon.plan_push."""
    source = _source_of(opened, version)
    present = _collected(opened, source)
    wanted, there = _parts(opened, version, only), {one.name: one for one in opened.parts(present)}
    difference = _difference(opened, present, version, only)
    differing = [
        name
        for name, one in wanted.items()
        if (name not in there or there[name].sha256 != one.sha256) and _tells_of(difference, name)
    ]
    lines: dict[str, list[str]] = {}
    if opened.estate.procedure_of(source).typing_lines:
        for name in differing:
            lines[name] = _lines(opened, source, there.get(name), wanted[name])
    digest = _digest_of(source, difference, wanted, there)
    return PushPlan(version, present, difference, differing, lines, digest)


def push(opened: "Historon", plan: PushPlan, only: str | None) -> Pushed:
    """Look whether the source is still as planned for, do it, collect again, and compare; see Historon.push."""
    source = opened.estate.sources[plan.wanted.source]
    now_there = plan_push(opened, plan.wanted, only)
    if now_there.digest != plan.digest:
        message = f"{source.name} was changed meanwhile: it is {source.name}@{now_there.present.number} now"
        raise OutsideError(message, hint="nothing was pushed; look at the change again")
    plan = now_there
    procedure = opened.estate.procedure_of(source)
    now = opened.clock()
    note_push(opened.store, plan.wanted, plan.present, now, now + procedure.deadline * 2)
    parts = {}
    for name, one in _parts(opened, plan.wanted, only).items():
        differs = name in plan.parts
        content = b"".join(opened.pieces(one)) if differs else b""
        parts[name] = Wanted(content, differs, [line.strip() for line in plan.lines.get(name, ())])
    work = push_parts(opened.estate, source, opened.store, parts, clock=opened.clock, told=lambda _step: None)
    failure = asyncio.run(work)
    left, unknown = None, ""
    try:
        left = _difference(opened, _collected(opened, source), plan.wanted, only)
    except OutsideError as exc:
        unknown = exc.message
        note_push(opened.store, plan.wanted, plan.present, now, now, at_it=False)
    done = Pushed(plan, failure, left, unknown)
    _tell(opened, done)
    return done


def lines_to(opened: "Historon", version: Version, only: str | None, *, reveal: bool) -> dict[str, list[str]]:
    """The lines that lead from the last good version to another, by part; see Historon.lines_to."""
    masks = opened.masks(version.source, reveal=reveal)
    source = opened.estate.sources.get(version.source)
    present = opened.version(version.source)
    there = {one.name: one for one in opened.parts(present)}
    found = {}
    for name, one in _parts(opened, version, only).items():
        if name not in there or there[name].sha256 != one.sha256:
            lines = _lines(opened, source, there.get(name), one)
            found[name] = masks.seen("\n".join(lines)).split("\n") if lines else []
    return found


def _source_of(opened: "Historon", version: Version) -> Source:
    source = opened.estate.sources.get(version.source)
    if source is None:
        raise UsageError(f"{version.source} is no longer a source", hint="restore the version to a folder")
    if not opened.estate.procedure_of(source).push:
        hint = "add push steps to it, or take the lines or files: historon push --lines, historon restore"
        raise UsageError(f"the procedure {source.procedure} does not say how to push", hint=hint)
    return source


def _collected(opened: "Historon", source: Source) -> Version:
    """A good export, taken now. OutsideError where there is none."""
    result = opened.collect(source.name).report.results[0]
    if result.outcome not in (Outcome.FIRST, Outcome.CHANGED, Outcome.UNCHANGED):
        why = str(result.failure or result.note or result.outcome)
        raise OutsideError(f"{source.name} could not be collected: {why}", hint=f"historon collect {source.name}")
    return opened.version(source.name)


def _parts(opened: "Historon", version: Version, only: str | None) -> dict[str, StoredPart]:
    """The parts that are to be brought back; metadata of trees are none."""
    found = {one.name: one for one in opened.parts(version) if not one.is_tree}
    if only is None:
        return found
    chosen = {name: one for name, one in found.items() if _belongs(name, only)}
    if not chosen:
        raise UsageError(f'{version.source}@{version.number} has no part "{only}"', hint="name a part, or a folder")
    return chosen


def _lines(opened: "Historon", source: Source | None, present: StoredPart | None, wanted: StoredPart) -> list[str]:
    """The lines for one part. UsageError where none can be reckoned."""
    procedure = opened.estate.procedure_of(source) if source else None
    texts = [_text(opened, present) if present else "", _text(opened, wanted)]
    noise = procedure.noise if procedure else ()
    patterns = [one.compiled for one in noise if one.kind == "pattern"]

    def passed_over(line: str) -> bool:
        return any(pattern.search(line.encode()) for pattern in patterns)

    try:
        return lines_between(texts[0], texts[1], _how(procedure), passed_over)
    except ValueError as exc:
        raise UsageError(f"{wanted.name}: {exc}", hint="see negate in [procedures.NAME.lines]") from exc


def _how(procedure: Procedure | None) -> Lines:
    return procedure.lines if procedure and procedure.lines else Lines()


def _text(opened: "Historon", part: StoredPart) -> str:
    content = b"".join(opened.pieces(part)) if part.size <= LARGE else b"\0"
    if is_binary(content) or content.lstrip()[:1] in (b"<", b"{", b"["):
        message = f"{part.name} is no text of lines that could be typed"
        raise UsageError(message, hint="name another part by --only")
    return content.decode("utf-8", "replace")


def _difference(opened: "Historon", present: Version, wanted: Version, only: str | None) -> Difference:
    """What leads from one version to another; of the parts that are brought back alone, where only some are."""
    found = opened.diff(f"{present.source}@{present.number}", f"{wanted.source}@{wanted.number}")
    if only is None:
        return found
    return replace(found, parts=[one for one in found.parts if _belongs(one.name, only)])


def _belongs(name: str, only: str) -> bool:
    return name == only or name.startswith(f"{only.rstrip('/')}/")


def _tells_of(difference: Difference, part: str) -> bool:
    """Whether a part, or something in it, is among what differs."""
    return any(_belongs(change.name, part) for change in difference.parts)


def _digest_of(
    source: Source, difference: Difference, wanted: Mapping[str, StoredPart], there: Mapping[str, StoredPart]
) -> str:
    """A change is known by what it changes, noise aside; of what has no lines, by the bytes of both sides."""
    digest = hashlib.sha256(source.name.encode())
    for change in difference.parts:
        digest.update(b"\0" + change.name.encode("utf-8", "surrogateescape"))
        told = [f"{one.sign}\0{one.path}\0{one.words}\0" for one in change.changes]
        digest.update("".join(told).encode("utf-8", "surrogateescape"))
        digest.update(b"".join(unified(change, "", "", 0)))
        if not change.edits and not told:
            sides = [side[change.name].sha256 if change.name in side else b"" for side in (there, wanted)]
            digest.update(b"".join(sides))
    return digest.hexdigest()[:_DIGEST]


def _tell(opened: "Historon", done: Pushed) -> None:
    """Whoever hears of changes hears of this one, and of one that went wrong."""
    wanted = done.plan.wanted
    name, kind = f"{wanted.source}@{wanted.number}", "pushed" if done.well else "push-failed"
    if done.well:
        message = f"{wanted.source} is as in {name} again"
    elif done.failure is not None:
        message = str(done.failure)
    else:
        message = done.unknown or f"{wanted.source} took it, and is not as in {name}"
    notifier = Notifier(opened.estate, opened.store, opened.clock)
    advice = f"to go back: {done.plan.way_back}"
    notifier.tell(Event(kind, opened.clock(), message, source=wanted.source, advice=advice, version=wanted.number))
    for _ in notifier.delivery.deliver():
        pass  # each is on record
