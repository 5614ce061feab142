"""From a year in which something was found to the shortest script that shows it again."""

from collections.abc import Callable, Sequence
from dataclasses import replace

from year.play import Entry, Script, play
from year.truth import Finding

__all__ = ["shrunk"]

_MOST = 40  # plays; a script that is still long then is what it is


def shrunk(script: Script, finding: Finding, broken: Sequence[str], told: Callable[[str], None]) -> Script:
    """As few days, sources and faults as still lead to the same mistake. `told` hears how far it has come."""
    left = _MOST

    def still(tried: Script) -> bool:
        nonlocal left
        left -= 1
        found = play(tried, broken, stop_at_first=True).findings
        same = any(one.mistake == finding.mistake and _alike(one.subject, finding.subject) for one in found)
        told(
            f"{tried.days} days, {len(tried.sources)} sources, {len(tried.entries)} faults: {'the same' if same else 'nothing'}"
        )
        return same

    best = replace(script, days=finding.day + 1, entries=tuple(one for one in script.entries if one.day <= finding.day))
    for fewer in _fewer_sources(best, finding):
        if left and still(fewer):
            best = fewer
            break
    size = max(1, len(best.entries) // 2)
    while left and size:
        parts = [best.entries[at : at + size] for at in range(0, len(best.entries), size)]
        for part in parts:
            fewer = replace(best, entries=tuple(one for one in best.entries if one not in part))
            if left and still(fewer):
                best = fewer
        size //= 2
    return _earlier(best, still)


def _alike(subject: str, other: str) -> bool:
    """The same source, or another place of which only the kind counts."""
    return subject == other or subject.partition(" ")[0] == other.partition(" ")[0]


def _number(source: str) -> int:
    return int(source.rpartition("-")[2])


def _fewer_sources(script: Script, finding: Finding) -> Sequence[Script]:
    """The one that it was found at, or a few."""
    tail = finding.subject.rpartition("-")[2]
    wanted = (int(tail),) if tail.isdigit() else script.sources[:1]
    return [_with(script, wanted), _with(script, tuple(sorted({*wanted, *script.sources[:8]})))]


def _with(script: Script, sources: tuple[int, ...]) -> Script:
    kept = tuple(one for one in script.entries if not one.source or _number(one.source) in sources)
    return replace(script, sources=sources, entries=kept)


def _earlier(script: Script, still: Callable[[Script], bool]) -> Script:
    """The days before the first fault left out, as far as that changes nothing."""
    first = min((one.day for one in script.entries), default=0)
    by = first - 2
    if by <= 0:
        return script
    moved = tuple(Entry(one.day - by, one.nights, one.kind, one.source) for one in script.entries)
    tried = replace(script, days=script.days - by, entries=moved)
    return tried if still(tried) else script
