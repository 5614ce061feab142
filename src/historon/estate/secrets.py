"""Secrets: only ever referred to in what the administrator writes, and masked wherever they could be seen."""

import os
import re
import shlex
import stat
import subprocess
from pathlib import Path
from typing import Self

from historon.base.errors import ExitCode, HistoronError

__all__ = ["Secret", "SecretError", "SecretRef", "is_reference", "small_environment", "without_secrets"]

_COMMAND_LIMIT_S = 30
_SHORTEST = 4  # shorter texts stand in many words, and hiding those would hide what happened
_fetched: set[str] = set()  # by this process: the last line of defence for its logs


_REFERENCE = re.compile(r"(env|file|command):(.+)")
# What a program needs of its surroundings, and no more: who runs it, where, in which language, and by which way out.
_HANDED_ON = re.compile(
    r"PATH|HOME|USER|LOGNAME|SHELL|LANG|LANGUAGE|LC_[A-Z]+|TZ|TMPDIR|SYSTEMROOT|(?:https?|ftp|no|all)_proxy",
    re.IGNORECASE,
)


def small_environment() -> dict[str, str]:
    """The variables that programs are started with: none of those that may hold a secret."""
    return {name: value for name, value in os.environ.items() if _HANDED_ON.fullmatch(name)}


def is_reference(text: str) -> bool:
    """Whether this refers to a secret."""
    return _REFERENCE.fullmatch(text) is not None


class SecretError(HistoronError):
    """A secret could not be fetched from where the estate file refers to."""

    exit_code = ExitCode.OUTSIDE


class Secret:
    """A text that shows itself only through `reveal()`."""

    __slots__ = ("_text",)

    def __init__(self, text: str) -> None:
        self._text = text

    def reveal(self) -> str:
        """The secret itself: for handing to a protocol, never to a message."""
        return self._text

    def __repr__(self) -> str:
        return "Secret(…)"

    __str__ = __repr__


def without_secrets(text: str) -> str:
    """The text with every secret that this process has fetched taken out: for logs, whatever else has gone wrong."""
    for secret in sorted(_fetched, key=len, reverse=True):
        text = text.replace(secret, "[secret]")
    return text


class SecretRef(str):
    """Where a secret is found: `env:NAME`, `file:PATH` (beside the estate file) or `command:PROGRAM ARGS`."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Read a reference. ValueError never repeats the text: it may be the secret itself."""
        found = _REFERENCE.fullmatch(text) if isinstance(text, str) else None
        if not found:
            raise ValueError(
                "a secret must not be in the file itself (refer to it: env:NAME, file:PATH or command:PROGRAM)"
            )
        return cls(f"{found[1]}:{found[2].strip()}")

    @property
    def kind(self) -> str:
        """`env`, `file` or `command`."""
        return self.partition(":")[0]

    @property
    def place(self) -> str:
        """What stands after the kind: a name, a path or a command."""
        return self.partition(":")[2]

    def resolve(self, folder: Path) -> Secret:
        """Fetch the secret; `file:` and `command:` are taken from the estate's folder. Raises SecretError."""
        fetch = {"env": self._from_env, "file": self._from_file, "command": self._from_command}[self.kind]
        text = fetch(folder)
        if not text:
            raise SecretError(f"{self}: the secret is empty", hint="write it where the reference points")
        _fetched.update(line for line in (text, *text.splitlines()) if len(line) >= _SHORTEST)
        return Secret(text)

    def _from_env(self, _folder: Path) -> str:
        if self.place not in os.environ:
            raise SecretError(
                f"{self}: this variable is not set",
                hint=f"export {self.place}, also in the scheduler's environment",
            )
        return os.environ[self.place]

    def _from_file(self, folder: Path) -> str:
        path = folder / Path(self.place).expanduser()
        try:
            with path.open(encoding="utf-8") as file:
                mode = os.fstat(file.fileno()).st_mode
                if stat.S_IMODE(mode) & 0o077:
                    raise SecretError(f"{self}: others can read or change {path}", hint=f"chmod 600 {path}")
                text = file.read()
        except FileNotFoundError as exc:
            raise SecretError(f"{self}: there is no file {path}", hint="create it with mode 600") from exc
        except (OSError, UnicodeError) as exc:
            raise SecretError(f"{self}: {path} cannot be read: {exc}", hint="check the file and its owner") from exc
        return text if "PRIVATE KEY" in text else text.rstrip("\r\n")

    def _from_command(self, folder: Path) -> str:
        try:
            done = subprocess.run(
                shlex.split(self.place),
                cwd=folder,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                timeout=_COMMAND_LIMIT_S,
                text=True,
                check=False,
            )
        except (OSError, ValueError, subprocess.TimeoutExpired) as exc:
            reason = "no answer in 30s" if isinstance(exc, subprocess.TimeoutExpired) else str(exc)
            raise SecretError(f"{self}: {reason}", hint="run the command by hand") from exc
        if done.returncode:
            raise SecretError(
                f"{self}: ended with exit code {done.returncode}",
                hint="run the command by hand; it must print the secret",
            )
        return done.stdout.rstrip("\r\n")
