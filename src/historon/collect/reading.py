"""Reading in an answer what a step wants to know: at once where that is quick, in a worker where it may not be.

A device may send whatever it likes, and an expression may take long on it. Neither holds up the other sources, nor this
one beyond the limits of the workers.
"""

import pickle
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import IO, Any, TypeVar, cast

from historon.base.quantities import size_text
from historon.base.workers import Workers
from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.interface import Answer
from historon.estate import Check, Expression, Finder, Pattern

__all__ = ["expressions_of", "read_in"]

T = TypeVar("T")
_SHORT = 64 * 1024  # bytes, in which whatever takes time that grows with the length alone is found at once
_MOST = 4 * 2**20  # bytes that a value may take up that is learnt


async def read_in(
    answer: Answer,
    work: Callable[..., T],
    *given: Any,
    expressions: Iterable[Expression | None],
    workers: Workers,
    source: str,
) -> T:
    """What `work`, a function of some module, finds in the answer with what is given.

    `expressions` are those that it looks for; None stands for one that may take long on a short answer too. LookupError
    as the work raises it, CollectError when it took too long or too much memory, or found too much.
    """
    if len(answer.content) <= _SHORT and all(one is not None and one.is_linear for one in expressions):
        return work(answer, *given)
    done = await workers.run(source, _worked, work, (answer, *given))
    if done.trouble:
        message = f"the answer could not be searched: {done.trouble}"
        raise CollectError(FailureKind.STEP, message, tail=answer.tail)
    well, found = done.pieces[0]
    if not well:
        raise LookupError(found)
    return cast(T, found)


def _worked(work: Callable[..., Any], given: Sequence[Any], _: Sequence[IO[bytes]]) -> Iterator[tuple[bool, Any]]:
    try:
        found = work(*given)
    except LookupError as exc:
        yield False, str(exc.args[0])
        return
    # Bytes are handed over as they are; of anything else many small pieces would have to be put together again.
    if not isinstance(found, bytes) and len(pickle.dumps(found)) > _MOST:
        yield False, f"the values found exceed {size_text(_MOST)} (search for fewer)"
        return
    yield True, found


def expressions_of(asked: Check | Finder | Iterable[Pattern] | None) -> Iterator[Expression | None]:
    """The expressions that a check, a place in an answer or patterns are looked for by; None for XPath."""
    if isinstance(asked, Finder):
        if asked.kind.startswith("xpath"):
            yield None
        elif asked.kind.startswith("pattern"):
            yield Pattern.parse(asked.place).compiled
    elif isinstance(asked, Check):
        for place, pattern in asked.value.items():
            yield from expressions_of(Finder.parse(place))
            yield pattern.compiled
        yield from (pattern.compiled for pattern in (*asked.holds, *asked.lacks))
    else:
        yield from (pattern.compiled for pattern in asked or ())
