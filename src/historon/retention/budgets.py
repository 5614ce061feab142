"""Budgets in bytes: what goes besides, so that a source, those of a label, or all of them take no more room."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from historon.base.quantities import size_text
from historon.estate import Estate, Size
from historon.retention.verdicts import Verdict
from historon.store import State, Store

__all__ = ["within_budgets"]

_Plans = Mapping[str, Sequence[Verdict]]


def within_budgets(estate: Estate, plans: _Plans, store: Store, retention: str | None) -> dict[str, list[Verdict]]:
    """The plans with as many more versions let go as the budgets ask for; `retention` is the one instead of their own.

    Those of noise alone go first, then the oldest; never one that always stays. A version weighs what the store would
    get back, which is known about: bytes at rest of the contents that came with it.
    """
    made = {name: list(verdicts) for name, verdicts in plans.items()}
    own = {}
    for name in plans:
        size = estate.retention[retention or estate.sources[name].retention or ""].size
        if size is not None:
            own[name] = size
    if not own and not estate.budgets:
        return made
    weighed = {name: store.weights(name) for name in estate.sources if name in own or estate.budgets}
    for name, size in own.items():
        _trim(made, [name], size, weighed, f"size {size_text(size)}")
    for budget in estate.budgets:
        names = [name for name, source in estate.sources.items() if source.has_labels(budget.where)]
        _trim(made, names, budget.size, weighed, f"the budget of {size_text(budget.size)}{budget.words}")
    return made


def _trim(
    plans: dict[str, list[Verdict]],
    names: Iterable[str],
    size: Size,
    weighed: Mapping[str, Mapping[int, int]],
    why: str,
) -> None:
    """Let versions of these sources go until what stays of them is within a size, or nothing more may go."""
    chosen = set(names)
    going = {(name, one.version.number) for name in chosen for one in plans.get(name, ()) if not one.stays}
    total = sum(weight for name in chosen for number, weight in weighed[name].items() if (name, number) not in going)
    staying = [(name, at, one) for name in chosen for at, one in enumerate(plans.get(name, ())) if one.stays]
    staying = [each for each in staying if not each[2].always]
    staying.sort(key=lambda each: (each[2].version.state is not State.NOISE, each[2].version.at, each[0]))
    for name, at, one in staying:
        if total <= size:
            return
        total -= weighed[name].get(one.version.number, 0)
        plans[name][at] = replace(one, rule=None, retention=f"{one.retention}, {why}")
