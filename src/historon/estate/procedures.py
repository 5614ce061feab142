"""Procedures: how a kind of source is asked for its export, in steps over one transport."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Literal

from msgspec import UNSET, Meta, Struct, UnsetType, field

from historon.estate.durations import Duration, Share, Size
from historon.estate.patterns import Finder, Noise, Pattern, QuickPattern
from historon.estate.transport_kinds import TRANSPORTS, TransportKind, TransportName

__all__ = ["Check", "Needs", "Procedure", "Said", "Step", "Table", "walk"]

Said = str | tuple[str, ...]
Format = Literal["xml", "json", "gzip", "bzip2", "xz", "zip", "tar", "sqlite", "text", "anything"]
Count = Annotated[int, Meta(ge=1)]


class Table(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Common to all tables: immutable, and a key that is not known is a mistake."""


class Check(Table, frozen=True):
    """What a good answer looks like; all that is said of it must hold."""

    status: int | tuple[int, ...] | None = None
    exit_code: int | tuple[int, ...] | None = None
    value: dict[str, Pattern] = {}
    holds: tuple[Pattern, ...] = ()
    lacks: tuple[Pattern, ...] = ()
    still: Duration | None = None

    def __post_init__(self) -> None:
        """Something to hold an answer against."""
        for place in self.value:
            Finder.parse(place)
        if all(getattr(self, name) in (None, (), {}) for name in self.__struct_fields__):
            raise ValueError("checks nothing (say status, exit_code, value, holds, lacks or still)")


class Needs(Table, frozen=True):
    """What must be so on this machine before a source is collected."""

    mount: str | None = None
    free: Size | None = None
    programs: tuple[str, ...] = ()


_VERBS = ("send", "keep", "pull", "await", "pause", "each", "pick", "clock", "tidy")
_SAYING = {"send", "keep", "await", "pause", "clock", "tidy"}
_KEEPING = {"keep", "pull"}
_REQUEST = _SAYING | {"pull"}
# Which verbs a clause of a step belongs to.
_CLAUSES: Mapping[str, set[str]] = {
    "as": _KEEPING,
    "ends_with": _KEEPING,
    "min_size": _KEEPING,
    "max_size": _KEEPING,
    "follows": _KEEPING,
    "record_only": _KEEPING,
    "optional": _KEEPING,
    "canonical": _KEEPING,
    "is": _KEEPING,
    "include": {"pull"},
    "exclude": {"pull"},
    "checksum": {"pull"},
    "newest": {"pull", "pick"},
    "complete": {"pull"},
    "sender": {"pull"},
    "subject": {"pull"},
    "json": _REQUEST,
    "form": _REQUEST,
    "body": _REQUEST,
    "headers": _REQUEST,
    "filter": _SAYING,
    "environment": _SAYING,
    "answers": _SAYING,
    "prompt": _SAYING,
    "check": {"send", "keep", "clock", "tidy"},
    "learn": _SAYING - {"pause"},
    "learn_secret": _SAYING - {"pause"},
    "until": {"await", "pause"},
    "every": {"await", "pause"},
    "within": {"await", "pause"},
    "word": {"await"},
    "or_else": {"await"},
    "resume": {"pause"},
    "probe": {"pause"},
    "steps": {"pause", "each"},
    "from": {"each", "pick"},
    "where": {"each", "pick"},
    "format": {"clock"},
}
_REQUIRED = {
    "keep": {"as": 'a name for the part (add as = "running.cfg")'},
    "await": {"until": "a condition (add until = { holds = ['ready'] })"},
    "pause": {"resume": "what undoes it (add resume)", "steps": "the steps that it is paused for (add steps)"},
    "each": {"from": "a list that was learnt (add from)", "steps": "steps to take for each (add steps)"},
    "pick": {"from": "a list that was learnt (add from)"},
    "clock": {"format": 'the form of the time (add format = "%Y-%m-%d %H:%M:%S")'},
}


class Step(Table, frozen=True):
    """One step of a procedure: exactly one verb, and clauses that say more of it."""

    send: Said | None = None
    keep: Said | None = None
    pull: str | None = None
    await_: Said | None = field(default=None, name="await")
    pause: Said | None = None
    each: str | None = None
    pick: str | None = None
    clock: Said | None = None
    tidy: Said | None = None
    when: dict[str, QuickPattern] = {}
    as_: str | None = field(default=None, name="as")
    ends_with: str | None = None
    min_size: Size | None = None
    max_size: Size | None = None
    follows: str | None = None
    record_only: bool = False
    optional: bool = False
    canonical: bool = False
    is_: Format | None = field(default=None, name="is")
    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    newest: str | None = None
    checksum: str | None = None
    complete: str | None = None
    sender: QuickPattern | None = None
    subject: QuickPattern | None = None
    json: Any = None
    form: dict[str, str] | None = None
    body: str | None = None
    headers: dict[str, str] = {}
    filter: str | None = None
    environment: dict[str, str] = {}
    answers: dict[str, str] = {}
    prompt: QuickPattern | None = None
    check: Check | None = None
    learn: dict[str, Finder] = {}
    learn_secret: dict[str, Finder] = {}
    until: Check | None = None
    every: Duration = Duration(seconds=2)
    within: Duration = Duration(minutes=5)
    word: str | None = None
    or_else: Literal["fail", "skip", "continue"] = "fail"
    resume: Said | None = None
    probe: Said | None = None
    steps: tuple["Step", ...] = ()
    from_: str | None = field(default=None, name="from")
    where: dict[str, QuickPattern] = {}
    format: str | None = None
    deadline: Duration | None = None

    def __post_init__(self) -> None:
        """One verb a step, and only clauses that say something of it."""
        if len([verb for verb in _VERBS if self._verb_value(verb) is not None]) != 1:
            raise ValueError(f"a step has exactly one of {', '.join(_VERBS[:-1])} and {_VERBS[-1]}")
        for clause in self.clauses:
            if self.verb not in _CLAUSES[clause]:
                if clause in ("as", "ends_with", "min_size"):
                    raise ValueError(f"{self.verb} keeps nothing, so it takes no as, ends_with or min_size (use keep)")
                takers = ", ".join(verb for verb in _VERBS if verb in _CLAUSES[clause])
                raise ValueError(f"{self.verb} takes no {clause} (it belongs to {takers})")
        self._check_details()

    def _check_details(self) -> None:
        for clause, wanted in _REQUIRED.get(self.verb, {}).items():
            if clause not in self.clauses:
                raise ValueError(f"{self.verb} needs {wanted}")
        if self.probe and not self.until:
            raise ValueError("probe needs a condition (add until = { holds = ['running'] })")
        if self.complete is not None and self.complete.partition(":")[0] not in _COMPLETE:
            raise ValueError(f'"{self.complete}" is not a sign of completeness (use {", ".join(_COMPLETE)})')
        for question in self.answers:
            QuickPattern.parse(question)
        if self.verb == "pull" and self.newest is not None:
            if self.newest not in ("time", "name"):
                raise ValueError('the newest file is told by newest = "time" or newest = "name"')
            if self.include or self.exclude:
                raise ValueError("newest takes one file, so include and exclude would mean nothing (narrow the path)")
        if self.ends_with is not None and self.ends_with.startswith("pattern:"):
            Pattern.parse(self.ends_with.removeprefix("pattern:"))

    def _verb_value(self, verb: str) -> Said | None:
        value: Said | None = getattr(self, "await_" if verb == "await" else verb)
        return value

    @property
    def clauses(self) -> Iterator[str]:
        """The clauses that are given, under the names they are written with."""
        for clause in _CLAUSES:
            attribute = f"{clause}_" if clause in _RESERVED else clause
            if _given(getattr(self, attribute), _DEFAULTS[attribute]):
                yield clause

    @property
    def verb(self) -> str:
        """Which of the verbs this step is."""
        return next(verb for verb in _VERBS if self._verb_value(verb) is not None)

    @property
    def keeps(self) -> bool:
        """Whether parts come of this step."""
        return self.verb in _KEEPING

    @property
    def says(self) -> Said:
        """What is said to the source, the path that is pulled, or the name that is given."""
        said = self._verb_value(self.verb)
        assert said is not None  # noqa: S101 (checked when it was made)
        return said

    @property
    def sayings(self) -> Iterator[Said]:
        """All that this step itself says to a source as commands or requests."""
        if self.verb in _SAYING:
            yield self.says
        yield from (said for said in (self.resume, self.probe) if said is not None)

    @property
    def learns(self) -> Iterator[str]:
        """The names that stand for something after this step."""
        yield from (*self.learn, *self.learn_secret)
        if self.verb in ("each", "pick"):
            yield str(self.says)

    def __str__(self) -> str:
        said = self.says if isinstance(self.says, str) else " ".join(self.says)
        return f"{self.verb} {said}"


_RESERVED = ("as", "from", "is")  # words of Python, whose fields have an underscore
_DEFAULTS = dict(zip(reversed(Step.__struct_fields__), reversed(Step.__struct_defaults__), strict=False))
_COMPLETE = ("renamed", "marker", "checksum", "size", "ends", "format")


def _given(value: object, default: object) -> bool:
    return value not in (None, False, (), {}) and value != default


def walk(steps: tuple[Step, ...], place: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], Step]]:
    """All steps, also those inside others, each with its place."""
    for index, step in enumerate(steps):
        yield (*place, index), step
        yield from walk(step.steps, (*place, index, "steps"))


# Settings and clauses that not every transport has, each with those that have it.
_SETTINGS_OF = {
    key: sorted(name for name, kind in TRANSPORTS.items() if key in kind.settings)
    for key in sorted({key for kind in TRANSPORTS.values() for key in kind.settings})
}
_CLAUSES_OF = {
    clause: sorted(name for name, kind in TRANSPORTS.items() if clause in kind.clauses)
    for clause in {clause for kind in TRANSPORTS.values() for clause in kind.clauses}
}


class Procedure(Table, frozen=True):
    """`[procedures.NAME]`: how a kind of source is asked for its export."""

    over: TransportName
    steps: tuple[Step, ...]
    about: str = ""
    extends: str | None = None
    values: dict[str, str] = {}
    needs: Needs | None = None
    prompt: QuickPattern | None = None
    pager: QuickPattern | None = None
    pager_answer: str = " "
    typing: Duration | None = None
    login_prompt: QuickPattern = QuickPattern.parse(r"(?i)(?:login|username|user)\s*: *$")
    password_prompt: QuickPattern = QuickPattern.parse(r"(?i)password\s*: *$")
    transfer: Literal["sftp", "scp"] = "sftp"
    auth: Literal["none", "basic", "digest", "bearer"] = "none"
    base: str = ""
    login_page: QuickPattern = QuickPattern.parse(r"""(?i)<input[^>]+type=["']?password""")
    folder: str | None = None
    mailbox: str = "INBOX"
    then: Literal["keep", "move", "remove"] = "keep"
    move_to: str = "taken"
    take: Literal["all", "newest"] = "all"
    noise: tuple[Noise, ...] = ()
    secret: tuple[QuickPattern, ...] = ()
    outline: Literal["indentation", "braces", "words", "headers", "prefixes", "flat"] | None = None
    unordered: tuple[Pattern, ...] = ()
    known_by: tuple[str, ...] = ()
    errors: tuple[Pattern, ...] | UnsetType = UNSET
    step_deadline: Duration = Duration(seconds=60)
    deadline: Duration = Duration(minutes=10)
    tries: Count = 3
    retry_pause: Duration = Duration(seconds=5)
    max_size: Size = Size(64 * 2**20)
    max_shrink: Share = Share(0.5)

    def __post_init__(self) -> None:
        """What one transport needs and another does not have."""
        for key, transports in _SETTINGS_OF.items():
            if self.over not in transports and _given(getattr(self, key), _PROCEDURE_DEFAULTS[key]):
                raise ValueError(f"over {self.over} has no {key} (it belongs to {', '.join(transports)})")
        if not any(step.keeps for _, step in walk(self.steps)):
            raise ValueError("keeps nothing (at least one step must be keep or pull)")
        self._check_effect()
        for key, wanted in self.kind.needed.items():
            if getattr(self, key) is None:
                raise ValueError(f"over {self.over} needs {wanted}")
        names = {
            step.as_ or str(step.says).rstrip("/").rpartition("/")[2] for _, step in walk(self.steps) if step.keeps
        }
        for _, step in walk(self.steps):
            self._check(step)
            if step.follows is not None and step.follows not in names:
                raise ValueError(f'a part follows "{step.follows}", which no step keeps (give that step this as)')

    def _check_effect(self) -> None:
        """Keys that mean nothing without another."""
        if self.pager is None and self.pager_answer != " ":
            raise ValueError("pager_answer answers nothing (add pager, or remove it)")
        if self.then != "move" and self.move_to != "taken":
            raise ValueError('move_to moves nothing (set then = "move", or remove it)')
        if self.folder is not None and self.mailbox != "INBOX":
            raise ValueError("takes mails from folder or over IMAP from mailbox, not both (remove one)")

    def _check(self, step: Step) -> None:
        """What a step cannot be over this transport."""
        over, kind = self.over, self.kind
        for clause in step.clauses:
            if over not in _CLAUSES_OF.get(clause, TRANSPORTS):
                belongs = ", ".join(_CLAUSES_OF[clause])
                raise ValueError(f"over {over} a step has no {clause} (it belongs to {belongs})")
        if step.verb == "pull":
            self._check_pull(step)
        said = list(step.sayings)
        if kind.arriving and said:
            raise ValueError(f"over {over} nothing can be sent (use pull)")
        if kind.as_list and any("{password}" in word or "{elevation}" in word for one in said for word in one):
            raise ValueError("a secret would be visible in the process list (give it in environment, or in a file)")
        if kind.as_list and any(isinstance(one, str) for one in said):
            raise ValueError(f'a {over} command is a list, as no shell reads it (["program", "argument"])')
        if not kind.as_list and not all(isinstance(one, str) for one in said):
            raise ValueError(f'over {over} a command is a text ("list settings")')

    def _check_pull(self, step: Step) -> None:
        kind = self.kind
        if not kind.pulls:
            raise ValueError(f"over {self.over} cannot pull a file (use keep{', or over ssh-exec' * kind.over_ssh})")
        for clause, wanted in kind.needed_to_pull.items():
            if clause not in step.clauses:
                raise ValueError(f"pull needs to know {wanted}")

    @property
    def kind(self) -> TransportKind:
        """Its transport."""
        return TRANSPORTS[self.over]

    @property
    def remote(self) -> bool:
        """Whether sources are reached over the network, and so need an address and an account."""
        return self.kind.remote and not self.folder

    @property
    def needs_account(self) -> bool:
        """Whether a source cannot be asked without credentials."""
        return self.remote and not (self.kind.anonymously and self.auth == "none")


_PROCEDURE_DEFAULTS = dict(
    zip(reversed(Procedure.__struct_fields__), reversed(Procedure.__struct_defaults__), strict=False)
)
