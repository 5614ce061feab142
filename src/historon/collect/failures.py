"""Why a source could not be collected, in words that say what to try."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from historon.base.errors import ExitCode, HistoronError

__all__ = ["NOT_RESUMED", "TAIL", "CollectError", "FailureKind", "NotNowError", "OfferedKey"]


NOT_RESUMED = "SERVICE NOT RESUMED"  # how the gravest failure is called wherever it is reported


class FailureKind(StrEnum):
    """The classes of failure; each has advice of its own."""

    PAUSED = "not resumed"
    UNREACHABLE = "unreachable"
    REFUSED = "refused"
    IDENTITY = "identity"
    IDENTITY_CHANGED = "identity changed"
    LOGIN = "log-in"
    PERMISSION = "permission"
    STEP = "step"
    TIME = "time"
    INCOMPLETE = "incomplete"
    TOO_LARGE = "too large"
    SETUP = "set-up"
    STORE = "store"
    DEFECT = "defect"

    @property
    def passes(self) -> bool:
        """Whether it may be over a moment later. A refused log-in never is: accounts lock."""
        return self in (FailureKind.UNREACHABLE, FailureKind.REFUSED, FailureKind.INCOMPLETE)


_ADVICE = {
    FailureKind.PAUSED: "resume it by hand, now",
    FailureKind.UNREACHABLE: "check address and port, that it is switched on, and firewalls between",
    FailureKind.REFUSED: "check that its service is on, the port is right, and its access list allows this machine",
    FailureKind.IDENTITY: "compare the fingerprint with the one that the device shows on its own console",
    FailureKind.IDENTITY_CHANGED: "was it replaced? If the change is unexplained, the connection may be intercepted",
    FailureKind.LOGIN: "log in by hand with this account; Historon does not repeat it, as accounts lock",
    FailureKind.PERMISSION: "let the account read this, and nothing more",
    FailureKind.STEP: "run this step by hand, with the same account",
    FailureKind.TIME: "run this step by hand; if it is only slow, raise its deadline",
    FailureKind.INCOMPLETE: "collect it again; if that does not help, run the step by hand",
    FailureKind.TOO_LARGE: "look at what the source sends; raise max_size if its size is right",
    FailureKind.SETUP: "correct this on the machine that Historon runs on",
    FailureKind.STORE: "historon doctor: repair the store first",
    FailureKind.DEFECT: "report this line, please",
}


@dataclass(frozen=True)
class OfferedKey:
    """The host key that a device showed at first contact, with the known_hosts line that would trust it."""

    algorithm: str
    fingerprint: str
    line: str


TAIL = 2000  # bytes of an answer that a message may show the end of


class CollectError(HistoronError):
    """One source could not be collected. `step` is its place in the procedure, `tail` the end of what came back."""

    exit_code = ExitCode.SOURCES

    def __init__(
        self,
        kind: FailureKind,
        message: str,
        *,
        hint: str = "",
        tail: bytes = b"",
        offered: OfferedKey | None = None,
        absent: bool = False,
        again: bool = True,
    ) -> None:
        """`absent` says that something asked for is not there; `again` that trying once more can do no harm."""
        super().__init__(message, hint=hint or _ADVICE[kind])
        self.kind = kind
        self.tail = tail
        self.offered = offered
        self.absent = absent
        self.passes = kind.passes and again
        self.step = ""
        self.hop = ""  # the jump host that it is about; empty for the source itself

    def at_step(self, step: str) -> "CollectError":
        """The same failure with its place in the procedure."""
        self.step = self.step or step
        return self

    def remarking(self, remarks: Sequence[str]) -> "CollectError":
        """The same failure with what else somebody should know."""
        self.message = "; ".join([self.message, *remarks])
        return self


class NotNowError(Exception):
    """A source that is to be left alone this time, for the reason given."""
