"""Pushing a version to its source, and checking that the source matches it."""

import hashlib
import re
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from historon.api.collecting import collect
from historon.api.context import Opened
from historon.api.history import record_named
from historon.api.results import Difference, Side
from historon.api.running import waiting
from historon.base.errors import OutsideError, UsageError
from historon.collect import Failure, Wanted, push_parts
from historon.compare import compare_exports, parse_document, readings, unified
from historon.estate import ACCOUNT_VALUES, Lines, Procedure, Put, Source, missing_values, values_of, walk
from historon.notices import Event, Notifier
from historon.restore import lines_between, with_section
from historon.store import Outcome, StoredPart, Version, hold_place, note_push, place_held, release_place
from historon.versions import Masks, belongs_to, contents_of, is_binary, too_large

__all__ = ["PushPlan", "Pushed", "lines_to", "plan_push", "push"]

_DIGEST = 12  # hexadecimal digits
# Control characters other than tabs, and ends of lines of other kinds.
_KEYS = "?\t"  # keys of many command lines: help, and completion
_QUOTED = 60
_STEERING = re.compile(r"(?!\t|\r?\n)[\x00-\x1f\x7f-\x9f\u2028\u2029]")


@dataclass(frozen=True)
class PushPlan:
    """What a push would do: `difference` leads from the `present` export to the `wanted` version.

    The present export was just collected. It may be suspect: a device that has lost its settings is a reason to push.

    `contents` are the parts that differ, noise aside, as they shall be; with `only` just some parts, or a path in a
    text. `lines` are the commands that are entered for each part, exactly. `removed` are files that only the source
    has, and that its push steps remove. Nothing else is sent. `digest` covers all of this.
    """

    wanted: Version
    present: Version
    only: str | None
    difference: Difference
    contents: Mapping[str, bytes] = field(repr=False)
    lines: Mapping[str, Sequence[str]] = field(repr=False)
    removed: Sequence[str]
    digest: str
    opened: Opened = field(repr=False, compare=False)

    @property
    def needed(self) -> bool:
        """Whether anything differs, noise aside."""
        return bool(self.difference.parts)

    @property
    def what(self) -> str:
        """What is pushed: a source, or this part or path of it."""
        if self.only is not None:
            return f"{self.only} of {self.wanted.source}"
        return self.wanted.source

    @property
    def way_back(self) -> str:
        """The command that goes back to the present version."""
        only = f" --only {shlex.quote(self.only)}" if self.only is not None else ""
        return f"historon push {self.present.source}@{self.present.number}{only}"

    async def push_async(self) -> "Pushed":
        """Push as planned, collect again, and compare.

        Raises OutsideError, and changes nothing, when the source is no longer as it was when this was planned.
        """
        return await push(self.opened, self)

    push = waiting(push_async)


@dataclass(frozen=True)
class Pushed:
    """The result of a push; `failure` is the reason when its steps did not end well.

    The export that was collected afterwards shows what the source holds anyway: `left` is what still differs, None
    where there is no such export, for the reason `unknown`. `answers` are the commands that were answered, each with
    its answer. `again` is true when another push would send something else than this one did.
    """

    plan: PushPlan
    failure: Failure | None
    left: Difference | None
    unknown: str = ""
    answers: Sequence[tuple[str, str]] = ()
    again: bool = False

    @property
    def well(self) -> bool:
        """Whether all steps ended well, and the source is as wanted, noise aside."""
        return self.failure is None and self.left is not None and not self.left.parts


async def plan_push(opened: Opened, version: Version, only: str | None) -> PushPlan:
    """Take a fresh export, and compare it; see Version.plan_push."""
    source = _source_of(opened, version)
    _check_steps(opened, source, version)
    if place_held(opened.store, source.name, opened.clock()):
        raise _held(source)
    present = await _collected(opened, source, suspect_too=True)  # a device that has lost its settings looks so
    return _plan(opened, source, version, present, only)


def _plan(opened: Opened, source: Source, version: Version, present: Version, only: str | None) -> PushPlan:
    difference = _difference(opened, present, version, only)
    before, after = difference.before.contents, difference.after.contents
    contents: dict[str, bytes] = {}
    for part in _to_put(opened, version, difference):
        large = too_large(after[part.name])  # what stands in for it is nothing to be put anywhere
        contents[part.name] = b"".join(opened.store.pieces(part)) if large else after[part.name]
    lines = {}
    if opened.described.procedure_of(source).typing_lines:
        lines = {name: _lines(opened, source, name, before.get(name, b""), one) for name, one in contents.items()}
    removed = _to_remove(opened, source, present, version) if only is None else []
    digest = _digest_of(opened, source, difference, contents, lines, removed)
    return PushPlan(version, present, only, difference, contents, lines, removed, digest, opened)


def _to_remove(opened: Opened, source: Source, present: Version, version: Version) -> list[str]:
    """The parts that only the source has, below those that a step puts without others beside them."""
    steps = walk(opened.described.procedure_of(source).push)
    alone = [step.part for _, step in steps if isinstance(step, Put) and step.remove_others]
    wanted = {part.name for part in _parts(opened, version)}
    there = [part.name for part in _parts(opened, present) if not part.is_tree and part.name not in wanted]
    return [name for name in there if any(belongs_to(name, one) for one in alone)]


def _check_steps(opened: Opened, source: Source, version: Version) -> None:
    """UsageError where a step could not be taken: all that a push needs is known before anything is sent."""
    procedure = opened.described.procedure_of(source)
    names = [part.name for part in _parts(opened, version) if not part.is_tree]
    account = opened.described.credentials.get(source.credentials or "")
    secrets = [name for name in ACCOUNT_VALUES if getattr(account, name, None)]
    given = values_of(source, procedure, account.user if account else "")
    for place, name in missing_values(procedure, [*given, *secrets]):
        where = " ".join(map(str, place))
        raise UsageError(f"{source.procedure}: {where}: {name} is unknown", hint="historon doctor")
    for _, step in (*walk(procedure.push), *walk(procedure.push_confirm)):
        if isinstance(step, Put) and not any(belongs_to(name, step.part) for name in names):
            message = f"{version.source}@{version.number} has no part {step.part}, which the push steps put"
            raise UsageError(message, hint=f"historon show {version.source}@{version.number} lists its parts")


def _held(source: Source) -> OutsideError:
    return OutsideError(
        f"another push to {source.name} is in progress", hint="wait until it has ended; nothing was sent"
    )


async def push(opened: Opened, plan: PushPlan) -> Pushed:
    """Check that the source is still as planned for, push, collect again, and compare; see PushPlan.push.

    The source is held meanwhile: no round visits it, and no other push of it begins.
    """
    source = opened.described.sources[plan.wanted.source]
    deadline = opened.described.procedure_of(source).deadline
    now = opened.clock()
    if not hold_place(opened.to_write(), source.name, now, now + deadline * 4):
        raise _held(source)
    try:
        done = await _pushed(opened, source, plan)
    finally:
        release_place(opened.store, source.name)
    await _notify(opened, done)
    return done


async def _pushed(opened: Opened, source: Source, planned: PushPlan) -> Pushed:
    present = await _collected(opened, source, suspect_too=True)
    plan = _plan(opened, source, planned.wanted, present, planned.only)
    if plan.digest != planned.digest:
        message = f"{source.name} changed in the meantime: it is {source.name}@{present.number} now"
        raise OutsideError(message, hint="nothing was pushed; look at the change again")
    procedure = opened.described.procedure_of(source)
    now = opened.clock()
    note_push(opened.store, plan.wanted, plan.present, now, now + procedure.deadline * 2)
    parts = {}
    for name in (one.name for one in _parts(opened, plan.wanted) if not one.is_tree):
        typed = [line.strip() for line in plan.lines.get(name, ())]
        parts[name] = Wanted(plan.contents.get(name, b""), name in plan.contents, typed)
    parts |= {name: Wanted(b"", differs=True, removed=True) for name in plan.removed}
    work = push_parts(opened.described, source, opened.store, parts, clock=opened.clock, told=lambda _step: None)
    failure, answers = await work
    left, unknown, again = None, "", False
    try:
        after, left = await _left(opened, source, plan)
        again = bool(left.parts) and _would_help(opened, source, plan, after)
    except OutsideError as exc:
        unknown = exc.message
        note_push(
            opened.store, plan.wanted, plan.present, now, now, why=f"{failure}; {unknown}" if failure else unknown
        )
    return Pushed(plan, failure, left, unknown, answers, again)


def _would_help(opened: Opened, source: Source, plan: PushPlan, after: Version) -> bool:
    """Whether another push would send something else than this one did: one change may wait for another."""
    try:
        following = _plan(opened, source, plan.wanted, after, plan.only)
    except (OutsideError, UsageError):
        return False
    if plan.lines or following.lines:
        return any(following.lines.values()) and following.lines != plan.lines
    left = (following.contents, following.removed)
    return any(left) and left != (plan.contents, plan.removed)


async def _left(opened: Opened, source: Source, plan: PushPlan) -> tuple[Version, Difference]:
    """What still differs, and in which export. OutsideError where that cannot be known.

    An export that looks suspect, such as one that is much smaller again, shows that nothing differs, and nothing else.
    """
    after = await _collected(opened, source, suspect_too=True)
    left = _difference(opened, after, plan.wanted, plan.only)
    if not after.good and left.parts:
        message = f"{source.name} could not be collected: its export is suspect, and was set aside"
        raise OutsideError(message, hint=f"historon show {source.name}@{after.number}")
    return after, left


def lines_to(opened: Opened, version: Version, only: str | None, *, reveal: bool) -> dict[str, list[str]]:
    """The lines that lead from the last good version to another, by part; see Version.lines."""
    masks = opened.masks(version.source, reveal=reveal)
    source = opened.described.sources.get(version.source)
    difference = _difference(opened, record_named(opened, version.source), version, only)
    before, after = difference.before.contents, difference.after.contents
    found = {}
    for part in _to_put(opened, version, difference):
        lines = _lines(opened, source, part.name, before.get(part.name, b""), after[part.name])
        found[part.name] = masks.seen("\n".join(lines)).split("\n") if lines else []
    return found


def _parts(opened: Opened, version: Version) -> list[StoredPart]:
    return list(opened.store.parts(version.source, version.number))


def _to_put(opened: Opened, version: Version, difference: Difference) -> list[StoredPart]:
    """The parts of a version that differ, noise aside, by their names. A tree's record is nothing that can be put."""
    before, after = difference.before.contents, difference.after.contents
    parts = [one for one in _parts(opened, version) if one.name in after and not one.is_tree]
    differing = [one for one in parts if before.get(one.name) != after[one.name] and _tells_of(difference, one.name)]
    return sorted(differing, key=lambda one: one.name)


def _source_of(opened: Opened, version: Version) -> Source:
    source = opened.described.sources.get(version.source)
    if source is None:
        raise UsageError(f"{version.source} is no longer a source", hint="restore the version to a folder")
    if not opened.described.procedure_of(source).push:
        hint = "add push steps to it, or use the lines or files: historon push --lines, historon restore"
        raise UsageError(f"the procedure {source.procedure} has no push steps", hint=hint)
    return source


async def _collected(opened: Opened, source: Source, *, suspect_too: bool = False) -> Version:
    """A good export, taken now, or one that is whole at least. OutsideError where there is none."""
    done = await collect(opened, [source], None, None, (), every=False)
    result = done.report.results[0]
    if suspect_too and result.outcome is Outcome.SUSPECT and result.number is not None:
        found = opened.store.version(source.name, result.number)
        if found is not None:
            return found
    if result.outcome not in (Outcome.NEW, Outcome.CHANGED, Outcome.UNCHANGED):
        why = str(result.failure or result.note or result.outcome)
        raise OutsideError(f"{source.name} could not be collected: {why}", hint=f"historon collect {source.name}")
    return record_named(opened, source.name)


def _lines(opened: Opened, source: Source | None, name: str, present: bytes, wanted: bytes) -> list[str]:
    """The lines for one part, as they are typed but for their indentation. UsageError where none can be calculated."""
    procedure = opened.described.procedure_of(source) if source else None
    masks = opened.masks(source.name) if source else Masks()
    how = _how(procedure)

    def reading(text: str) -> list[str | None]:
        return [None if one is None else one.decode() for one in readings(text.encode(), masks)]

    try:
        lines = lines_between(_text(name, present), _text(name, wanted), how, reading)
        return [_typed(line, how) for line in lines]
    except ValueError as exc:
        raise UsageError(f"{name}: {exc}", hint="see [procedures.NAME.lines]") from exc


def _typed(line: str, how: Lines) -> str:
    """A line as it is typed. ValueError where a command line would take a character in it for a key of its own."""
    said = line.lstrip()
    indent, made = line[: len(line) - len(said)], []
    for character in said:
        if character in how.typed_as:
            made.append(how.typed_as[character])
        elif character in _KEYS:
            shown = {"\t": "a tab", "?": "?"}[character]
            raise ValueError(
                f'"{said[:_QUOTED].strip()}" contains {shown}, which a command line takes for a key (say '
                "how to enter it: typed_as)"
            )
        else:
            made.append(character)
    return indent + "".join(made)


def _how(procedure: Procedure | None) -> Lines:
    return procedure.lines if procedure and procedure.lines else Lines()


def _text(name: str, content: bytes) -> str:
    """A text as it would be typed: no character is guessed, and none steers the session."""
    refusal = UsageError(f"{name} is not a text of lines that can be entered", hint="name another part by --only")
    if is_binary(content) or content.lstrip()[:1] in (b"<", b"{", b"["):
        raise refusal
    try:
        text = content.decode()
    except UnicodeDecodeError as exc:
        raise refusal from exc
    if _STEERING.search(text):
        raise refusal
    return text


def _difference(opened: Opened, present: Version, wanted: Version, only: str | None) -> Difference:
    """What leads from one version to another; with `only`, of these parts, or of what stands at this place in texts."""
    before, after = (contents_of(opened.store, one.source, one.number) for one in (present, wanted))
    masks = opened.masks(wanted.source)
    narrowed: frozenset[str] = frozenset()
    if only is not None:
        whole = after
        before, after = _narrowed(before, after, only, masks)
        narrowed = frozenset(name for name, content in after.items() if whole.get(name) != content)
        if not after:
            message = f'{wanted.source}@{wanted.number} has no part "{only}", and no such place in a text'
            raise UsageError(message, hint=f"historon show {wanted.source}@{wanted.number} lists its parts")
    now = Side(f"{present.source}@{present.number}", present.at, before, present)
    to_be = Side(f"{wanted.source}@{wanted.number}", wanted.at, after, wanted)
    return Difference(now, to_be, compare_exports(before, after, masks), opened.weights, narrowed)


def _narrowed(
    before: Mapping[str, bytes], after: Mapping[str, bytes], only: str, masks: Masks
) -> tuple[dict[str, bytes], dict[str, bytes]]:
    """Both sides with these parts alone; else with what is there, and the same with this section as it is wanted."""
    wanted = {name: content for name, content in after.items() if belongs_to(name, only)}
    if wanted:
        return {name: content for name, content in before.items() if belongs_to(name, only)}, wanted
    found = {}
    for name in before.keys() & after.keys():
        if is_binary(before[name]) or is_binary(after[name]):
            continue
        try:
            text = with_section(before[name], after[name], only, masks.outline)
            if text is not None:
                _check_document(name, before[name], text)
                found[name] = text
        except ValueError as exc:
            raise UsageError(f"{name}, {only}: {exc}", hint="name its parent, or the part, by --only") from exc
    return {name: before[name] for name in found}, found


def _check_document(name: str, before: bytes, made: bytes) -> None:
    """ValueError where a document, such as XML, would be none with the section in it: its lines say only half of it."""
    document = parse_document(name, before)
    if document is None:
        return
    again = parse_document(name, made)
    if again is None or again.kind != document.kind:
        raise ValueError(f"the {document.kind.upper()} would be incomplete with these lines of it")


def _tells_of(difference: Difference, part: str) -> bool:
    """Whether a part, or something in it, is among what differs."""
    return any(belongs_to(change.name, part) for change in difference.parts)


def _digest_of(
    opened: Opened,
    source: Source,
    difference: Difference,
    contents: Mapping[str, bytes],
    lines: Mapping[str, Sequence[str]],
    removed: Sequence[str],
) -> str:
    """All that is sent, byte for byte, and what it changes, noise aside.

    Where a section is put into the text that is there, the noise in it comes from there, and counts for nothing.
    """
    digest = hashlib.sha256(source.name.encode())
    masks = opened.masks(source.name)
    for name, content in sorted(contents.items()):
        digest.update(b"\0put " + name.encode("utf-8", "surrogateescape") + b"\0")
        if name in lines:
            digest.update("".join(f"{line.strip()}\n" for line in lines[name]).encode())
        elif name in difference.narrowed and not is_binary(content):
            digest.update(b"\n".join(one for one in readings(content, masks) if one is not None))
        else:
            digest.update(content)
    digest.update("".join(f"\0remove {name}" for name in removed).encode("utf-8", "surrogateescape"))
    for change in difference.parts:
        digest.update(b"\0" + change.name.encode("utf-8", "surrogateescape"))
        told = [f"{one.sign}\0{one.path}\0{one.words}\0" for one in change.changes]
        digest.update("".join(told).encode("utf-8", "surrogateescape"))
        digest.update(b"".join(unified(change, "", "", 0)))
        if not change.edits and not told:
            for side in (difference.before, difference.after):
                digest.update(b"".join(one for name, one in side.contents.items() if belongs_to(change.name, name)))
    return digest.hexdigest()[:_DIGEST]


async def _notify(opened: Opened, done: Pushed) -> None:
    """Notify the channels of a push, and of one that failed."""
    wanted = done.plan.wanted
    name, kind = f"{wanted.source}@{wanted.number}", "pushed" if done.well else "push-failed"
    if done.well:
        message = f"{done.plan.what} matches {name} again"
    elif done.failure is not None:
        message = str(done.failure)
    else:
        message = done.unknown or f"{done.plan.what} does not match {name}, though all steps ended well"
    notifier = Notifier(opened.described, opened.store, opened.clock)
    advice = f"to go back: {done.plan.way_back}"
    notifier.tell(Event(kind, opened.clock(), message, source=wanted.source, advice=advice, version=wanted.number))
    await notifier.delivery.deliver_beside()  # each is on record
