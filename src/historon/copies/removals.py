"""Whether a copy follows a removal that the store's record tells of: only one that a rule or a person explains."""

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from itertools import groupby

from historon.base.errors import RefusedError
from historon.copies.places import left_out_rule
from historon.estate import Estate
from historon.store import ESTATE, RENAMED, Approval, Followed, State, Store, Version, version_digest

__all__ = ["approval_of", "confirm_removals"]

_NAMED = 5  # versions in a message
_BY_RETENTION = "retention "


def approval_of(
    estate: Estate, store: Store, now: datetime, digests: Mapping[str, Mapping[int, bytes]] | None = None
) -> Approval:
    """Hears of the removals that a copy would follow; RefusedError where one of them is explained by nothing.

    A removal is explained when its record names a retention of the estate by which that version was to go at that
    instant, and the digest of the version that the copy holds (`digests`, by source and number, where they are known).
    `[copies.NAME] retention` explains what it leaves out. A person confirms the others by their digest.
    """
    known = digests or {}

    def approve(followed: Sequence[Followed]) -> None:
        unexplained = []
        ordered = sorted(followed, key=lambda one: (one.version.source, one.version.number))
        for source, group in groupby(ordered, key=lambda one: one.version.source):
            for one, why in _unexplained(estate, store, source, list(group), now):
                unexplained.append((one, why))
        for one in ordered:
            theirs = known.get(one.version.source, {}).get(one.version.number)
            if one.sha256 is not None and theirs is not None and theirs != one.sha256:
                unexplained.append((one, "the record of its removal has another content"))
        if not unexplained:
            return
        digest = _digest_of([one for one, _ in unexplained])
        if store.recall(ESTATE, _CONFIRMED) == digest:
            return
        told = [f"{one.version.source}@{one.version.number} ({why})" for one, why in unexplained]
        more = f" and {len(told) - _NAMED} more" if len(told) > _NAMED else ""
        raise RefusedError(
            (
                "the store removed versions for reasons that are not in the estate file: "
                f"{', '.join(told[:_NAMED])}{more}"
            ),
            hint=f"the copy was not changed; if you removed them: historon copies --update --removed {digest}",
        )

    return approve


_CONFIRMED = "removals confirmed"  # the topic under which is remembered which ones a person has confirmed


def confirm_removals(store: Store, digest: str) -> None:
    """Let copies follow the removals that this digest stands for, and no others."""
    store.remember(ESTATE, _CONFIRMED, digest)


def _digest_of(followed: Iterable[Followed]) -> str:
    """By what a set of removals is known, so that a person confirms these and no others."""
    lines = [f"{one.version.source}@{one.version.number} {one.gone} {one.rule}\n" for one in followed]
    return hashlib.sha256("".join(sorted(lines)).encode()).hexdigest()[:12]


def _unexplained(
    estate: Estate, store: Store, source: str, followed: Sequence[Followed], now: datetime
) -> Iterable[tuple[Followed, str]]:
    """The removals of one source that nothing explains, each with what is wrong."""
    own = {left_out_rule(one.own_retention) for one in estate.copies.values() if one.own_retention}
    there = {one.number: one for one in store.versions(source)}
    records = {one.number: one for one in store.removed(source)}
    held = {one.version.number: one.version for one in followed}
    for one in followed:
        if one.rule in own or _goes_on(store, one):
            continue
        if one.rule is None or one.gone is None:
            yield one, "no rule and no person is on record"
        elif not one.version.at <= one.gone <= now:
            yield one, "it was removed before it was made, or in the future"
        elif _retention_of(one.rule) not in estate.retention:
            yield one, f"by {one.rule}, which the estate file does not have"
        else:
            then = dict(there)
            for number, record in records.items():
                if record.gone is not None and record.at is not None and record.gone >= one.gone:
                    then[number] = held.get(number) or Version(source, number, record.at, State.GOOD, 0, 0, 0)
            versions = [then[number] for number in sorted(then) if then[number].at <= one.gone]
            why = _stays(estate, one, versions)
            if why:
                yield one, f"it had to stay: {why}"


def _goes_on(store: Store, one: Followed) -> bool:
    """Whether the version is there under the name that its source has now, the same, or went from there."""
    if one.rule is None or not one.rule.startswith(RENAMED):
        return False
    name, number = one.rule.removeprefix(RENAMED), one.version.number
    there = version_digest(store.parts(name, number)) if store.version(name, number) is not None else None
    gone = {record.number: record.sha256 for record in store.removed(name)}
    return one.sha256 is not None and one.sha256 in (there, gone.get(number))


def _retention_of(rule: str) -> str:
    """The retention that a removal's record names; empty where it names none. A budget is behind a comma."""
    return rule.removeprefix(_BY_RETENTION).partition(",")[0] if rule.startswith(_BY_RETENTION) else ""


def _stays(estate: Estate, one: Followed, versions: Sequence[Version]) -> str:
    """Why retention would have kept a version when it was removed; empty where it would not.

    Where a budget counts, what stays is a matter of sizes that nobody knows any more: only what always stays is.
    """
    from historon.retention import plan  # imported where it is used: any command reads what copies there are

    assert one.gone is not None  # noqa: S101 (it was looked at)
    rules = estate.retention[_retention_of(one.rule or "")]
    budgeted = bool(estate.budgets) or rules.size is not None
    why = ""
    for state in (one.version.state,) if one.state_known else (State.GOOD, State.NOISE):
        tried = [replace(each, state=state) if each.number == one.version.number else each for each in versions]
        verdicts = plan(tried, rules, now=one.gone, zone=estate.zone)
        verdict = next((each for each in verdicts if each.version.number == one.version.number), None)
        if verdict is None or not verdict.stays or (budgeted and not verdict.always):
            return ""
        why = why or str(verdict.rule)
    return why
