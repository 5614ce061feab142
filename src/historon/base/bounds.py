"""Which version is looked at: so that it can be bounded in time and memory, and left out when it takes too much.

What a device sent is not to be trusted later either. Whoever looks into stored exports says so, version by version;
whoever called may watch, and give some of them up (see historon.cli.bounded).
"""

from collections.abc import Callable, Mapping
from types import MappingProxyType

from historon.base.errors import ExitCode, HistoronError

__all__ = ["TooHeavyError", "begin_on", "watch"]

_NONE: Mapping[str, str] = MappingProxyType({})
_watching: list[tuple[Callable[[str], None], Mapping[str, str]]] = []


class TooHeavyError(HistoronError):
    """A version cannot be looked into within the bounds: it belongs to its source. `why` begins with a verb."""

    exit_code = ExitCode.SOURCES

    def __init__(self, what: str, why: str) -> None:
        hint = "historon show SOURCE@WHEN PART > FILE writes a part as it was collected"
        super().__init__(f"{what} cannot be examined: it {why}", hint=hint)
        self.why = why


def begin_on(version: str) -> None:
    """Say that a version is looked at now, `SOURCE@NUMBER`. TooHeavyError where it was given up."""
    for observer, given_up in _watching:
        if version in given_up:
            raise TooHeavyError(version, given_up[version])
        observer(version)


def watch(observer: Callable[[str], None], given_up: Mapping[str, str] = _NONE) -> None:
    """Let an observer hear of each version that is looked at, but for those given up, each with why."""
    _watching[:] = [(observer, given_up)]
