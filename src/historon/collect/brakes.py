"""A brake for each account: a wrong password must not be tried on two hundred devices, as accounts lock."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from historon.collect.failures import CollectError, FailureKind

__all__ = ["Brake"]

_UNKNOWN = 4  # sources that are asked at the same time before the account was let in anywhere
_UNPROVEN = 3  # of them such as have no good record: they may hang, and the account may be right anyway
_REFUSALS = 4  # after which no further source is asked


class Brake:
    """How an account fares in a round. It is known to be let in once any source has.

    Before that only a few sources are asked at the same time, one of them such as has a good record. After the first
    refusal they are asked one at a time, and after three more none is.
    """

    def __init__(self, account: str) -> None:
        self._account = account
        self._running = 0
        self._unproven = 0
        self._refusals = 0
        self._let_in = False
        self._changed = asyncio.Condition()

    @asynccontextmanager
    async def turn(self, *, proven: bool = True) -> AsyncIterator[None]:
        """A source's turn to use the account, with a good record or not.

        CollectError when it was refused too often already.
        """
        async with self._changed:
            await self._changed.wait_for(lambda: self._refusals >= _REFUSALS or self._has_room(proven=proven))
            if self._refusals >= _REFUSALS:
                raise CollectError(
                    FailureKind.LOGIN,
                    f"not contacted: the account {self._account} was refused {self._refusals} times in this round",
                    hint=(
                        "log in by hand: was its password changed? No other source is contacted with it, "
                        "as accounts lock"
                    ),
                )
            self._running += 1
            self._unproven += not proven
        try:
            yield
        except CollectError as exc:
            self._refusals += exc.kind is FailureKind.LOGIN
            raise
        finally:
            self._running -= 1
            self._unproven -= not proven
            async with self._changed:
                self._changed.notify_all()

    def _has_room(self, *, proven: bool) -> bool:
        if self._refusals:
            return self._running == 0
        return self._let_in or (self._running < _UNKNOWN and (proven or self._unproven < _UNPROVEN))

    async def was_let_in(self) -> None:
        """Some source has taken the account: others need not wait."""
        if not self._let_in:
            self._let_in = True
            async with self._changed:
                self._changed.notify_all()
