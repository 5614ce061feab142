"""Steps about lists that were learnt: pick chooses one item, each repeats steps for all."""

from collections.abc import Sequence
from typing import Any

from historon.collect.answers import choose, field_of
from historon.collect.failures import CollectError, FailureKind
from historon.collect.newest import newest_of
from historon.collect.taking import Result, Taking, failing
from historon.collect.transports.xml import canonical_json
from historon.estate import Each, Pick

__all__ = ["pick", "repeat"]

_MOST_TURNS = 1000


async def pick(taking: Taking, place: str, step: Pick) -> None:
    """See Taker."""
    await taking.single(place, step, _pick)


async def _pick(taking: Taking, step: Pick) -> Result:
    """Give one item of a list a name."""
    with failing():
        found = choose(_list(taking, step), step.where)
    if not found:
        conditions = ", ".join(f"{name} {pattern}" for name, pattern in step.where.items())
        raise CollectError(FailureKind.STEP, f"nothing to pick: no item of {step.from_} has {conditions or 'these'}")
    newest = step.newest
    if newest is not None and all(field_of(one, newest) is None for one in found):
        raise CollectError(FailureKind.STEP, f'nothing to pick: none of {len(found)} in {step.from_} has "{newest}"')
    item = found[0] if newest is None else _newest(taking, [field_of(one, newest) for one in found], found)
    taking.around.values[step.says] = item
    return item.encode() if isinstance(item, str) else canonical_json(item), ()


def _newest(taking: Taking, values: Sequence[Any], items: Sequence[Any]) -> Any:
    try:
        at, remark = newest_of(values, taking.around.clock(), taking.around.zone)
    except ValueError as exc:
        raise CollectError(FailureKind.STEP, f"the newest is unknown: {exc}") from exc
    if remark:
        taking.session.remarks.append(remark)
    return items[at]


def _list(taking: Taking, step: Pick | Each) -> Any:
    if step.from_ not in taking.around.values:
        raise LookupError(f"no step has learnt {step.from_} yet")
    return taking.around.values[step.from_]


async def repeat(taking: Taking, place: str, step: Each) -> None:
    """See Taker."""
    with failing():
        items = choose(_list(taking, step), step.where)
    if len(items) > _MOST_TURNS:
        raise CollectError(FailureKind.STEP, f"{step.from_} has {len(items)} items").at_step(place)
    for number, item in enumerate(items, 1):
        taking.around.values[step.says] = item
        await taking.take_all(step.steps, f"{step} {number} of {len(items)}, ")
