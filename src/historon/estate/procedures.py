"""Procedures: how a kind of source is asked for its export, in steps over one transport."""

import hashlib
import json
import re
from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Literal

from msgspec import UNSET, Meta, UnsetType

from historon.estate.durations import Duration, Share, Size
from historon.estate.patterns import Noise, Pattern, QuickPattern
from historon.estate.steps import Clauses, Keeping, Pull, Put, Step, walk
from historon.estate.table import Count, Table

__all__ = ["Lines", "Needs", "Procedure"]


class Needs(Table, frozen=True):
    """What must be so on this machine before a source is collected."""

    mount: str | None = None
    free: Size | None = None
    programs: tuple[str, ...] = ()


class Lines(Table, frozen=True, kw_only=True):
    """How a command line learns what is to be: what undoes a line, and what leaves a section.

    `negate` is a word in front of a line, or two, the second of which takes the place of the first. A line in which one
    of `adds` is found adds to what is there, so that the one before has to be undone first. `typed_as` says how a
    character is typed that a command line would take for a key of its own, such as `?`.
    """

    negate: tuple[str, ...] = ("no",)
    leave: str = "exit"
    adds: tuple[str, ...] = ()
    typed_as: dict[str, str] = {}

    def __post_init__(self) -> None:
        """A word, or two."""
        if len(self.negate) not in (1, 2) or not all(self.negate):
            raise ValueError('negate is one word, or two that replace each other (["set", "delete"])')
        if not all(len(one) == 1 for one in self.typed_as):
            raise ValueError("typed_as has single characters, each with the text to enter for it")
        for one in self.adds:
            try:
                re.compile(one)
            except re.error as exc:
                raise ValueError(f"adds is a list of expressions, and {one!r} is not one: {exc}") from exc

    @property
    def adding(self) -> list[re.Pattern[str]]:
        """The expressions of `adds`."""
        return [re.compile(one) for one in self.adds]


class Procedure(Table, frozen=True):
    """`[procedures.NAME]`: how a kind of source is asked for its export; a class for each transport.

    What is to be known of a transport before anything is reached stands in its class: its name, `over`; its `port`
    where no other is named (0 for none). `over_ssh` means
    that the other side is known by a host key, and may stand behind jump hosts; `by_certificate` that it is known by an
    X.509 certificate. With `logs_in_at_once` an open session means that the account was let in. What is `arriving`
    comes by itself, and may have to be put away. With `as_list` what is said is a list of words, as no shell reads it.
    `asking`, `pulling` and `putting` are the clauses of steps that say something, pull files and put parts back, None
    where there is nothing to say, to pull or to put; with `typing_lines` what is put are the lines that lead to a part,
    typed one after another. `needed` are the keys that cannot be left out, each with how it could be written, and
    `concerns` what is to be said against a transport, each with what helps.
    """

    read_apart: ClassVar[tuple[str, ...]] = ("steps", "push", "push_confirm")
    over: ClassVar[str] = ""
    port: ClassVar[int] = 0
    over_ssh: ClassVar[bool] = False
    by_certificate: ClassVar[bool] = False
    logs_in_at_once: ClassVar[bool] = False
    arriving: ClassVar[bool] = False
    on_network: ClassVar[bool] = True
    as_list: ClassVar[bool] = False
    asking: ClassVar[type[Clauses] | None] = Clauses
    pulling: ClassVar[type[Clauses] | None] = Clauses
    putting: ClassVar[type[Clauses] | None] = None
    typing_lines: ClassVar[bool] = False
    needed: ClassVar[Mapping[str, str]] = {}
    concerns: ClassVar[Mapping[str, str]] = {}

    steps: tuple[Step, ...]
    push: tuple[Step, ...] = ()
    push_confirm: tuple[Step, ...] = ()
    lines: Lines | None = None
    about: str = ""
    extends: str | None = None
    values: dict[str, str] = {}
    needs: Needs | None = None
    noise: tuple[Noise, ...] = ()
    secret: tuple[QuickPattern, ...] = ()
    outline: Literal["indentation", "braces", "words", "headers", "prefixes", "flat"] | None = None
    unordered: tuple[Pattern, ...] = ()
    known_by: tuple[str, ...] = ()
    proof: tuple[Annotated[tuple[str, ...], Meta(min_length=1)], ...] = ()
    proof_at: dict[str, str] = {}
    proof_decides: bool = False
    errors: tuple[Pattern, ...] | UnsetType = UNSET
    step_deadline: Duration = Duration(seconds=60)
    deadline: Duration = Duration(minutes=10)
    tries: Count = 3
    retry_pause: Duration = Duration(seconds=5)
    collect_twice: bool = False
    max_size: Size = Size(64 * 2**20)
    max_shrink: Share = Share(0.5)

    def __post_init__(self) -> None:
        """Steps that keep something, and that can be taken over this transport."""
        if self.proof_at and not self.proof:
            raise ValueError("proof_at has no effect without a proof (add proof, or remove it)")
        for place, part in self.proof_at.items():
            if not place.startswith("/") or place == "/" or ".." in (*place.split("/"), *part.split("/")):
                raise ValueError('proof_at has absolute paths, each with a folder of parts ("" for an empty one)')
        if self.proof_decides and not self.proof:
            raise ValueError("proof_decides has no effect without a proof (add proof, or remove it)")
        keeping = [step for _, step in walk(self.steps) if isinstance(step, Keeping)]
        if not keeping:
            raise ValueError("has no step with a part (at least one step must be keep or pull)")
        if self.collect_twice and self.arriving:
            raise ValueError(f"collect_twice has no effect over {self.over}: an export arrives only once (remove it)")
        self._check_push()
        self._check_steps(keeping)

    def _check_steps(self, keeping: Sequence[Keeping]) -> None:
        """What the steps cannot be, each and together."""
        names = {step.as_ or str(step.says).rstrip("/").rpartition("/")[2] for step in keeping}
        for _, step in walk(self.steps):
            self._check(step)
            if isinstance(step, Put):
                raise ValueError("put is for pushing (move it to push)")
        for step in keeping:
            if step.follows is not None and step.follows not in names:
                raise ValueError(f'a part follows "{step.follows}", which no step keeps (give that step this as)')

    @property
    def proof_digest(self) -> str:
        """By what a proof is known: a verdict rests on it."""
        told = json.dumps([self.proof, sorted(self.proof_at.items())])
        return hashlib.sha256(told.encode()).hexdigest()[:16]

    def _check_push(self) -> None:
        """Steps that push a version keep nothing, and put something."""
        if self.push_confirm and not self.push:
            raise ValueError("push_confirm confirms nothing (add push, or remove it)")
        for _, step in (*walk(self.push), *walk(self.push_confirm)):
            self._check(step)
            if isinstance(step, Keeping):
                raise ValueError(f"push stores no part (use send instead of {step.verb})")
            if isinstance(step, Put) and self.putting is None:
                raise ValueError(f"{self.over} cannot put files")
            if isinstance(step, Put) and self.typing_lines and step.says != "lines":
                raise ValueError('a command line takes only lines (write put = "lines")')

    def _check(self, step: Step) -> None:
        """What a step cannot be over this transport."""
        if isinstance(step, Pull) and self.pulling is None:
            other = ", or over ssh-exec" if self.over_ssh else ""
            raise ValueError(f"{self.over} cannot pull a file (use keep{other})")
        said = list(step.sayings)
        if said and self.asking is None:
            raise ValueError(f"{self.over} cannot send commands (use pull)")
        if self.as_list and any("{password}" in word or "{elevation}" in word for one in said for word in one):
            raise ValueError("a secret would be visible in the process list (give it in environment, or in a file)")
        if self.as_list and any(isinstance(one, str) for one in said):
            raise ValueError(f'a {self.over} command is a list, as no shell reads it (["program", "argument"])')
        if not self.as_list and not all(isinstance(one, str) for one in said):
            raise ValueError(f'a command over {self.over} is a text ("list settings")')

    @property
    def place(self) -> str:
        """The folder on this machine where its exports arrive, as it is written; empty for none."""
        return ""

    @property
    def moves_to(self) -> str | None:
        """The folder below its place that what was taken is moved to; None where nothing is put away."""
        return None

    @property
    def programs(self) -> set[str]:
        """The programs of this machine that its steps run, as they are written."""
        return set()

    @property
    def remote(self) -> bool:
        """Whether sources are reached over the network, and so need an address and an account."""
        return self.on_network

    @property
    def needs_account(self) -> bool:
        """Whether a source cannot be asked without credentials."""
        return self.remote

    @property
    def needs_user(self) -> bool:
        """Whether its account has a name."""
        return True

    def logs_in_with(self, key: str, *, has_key: bool, has_certificate: bool) -> bool:
        """Whether it looks at this key of an account, which also has a key, or a certificate, or not."""
        return self.over_ssh and (key != "passphrase" or has_key)
