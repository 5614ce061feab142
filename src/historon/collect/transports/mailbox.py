"""Exports that are mailed: from a Maildir on this machine, or from a server over IMAP (RFC 9051) and TLS."""

import asyncio
import email
import email.policy
import imaplib
import mailbox
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import parsedate_to_datetime
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path
from typing import Any

from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.transports.interface import Session, Target
from historon.collect.transports.tls import peer_context, peer_verdict
from historon.estate import Step, fill, values_of
from historon.store import Part

__all__ = ["open_mailbox"]

_TIMEOUT_S = 60
_PORT = 993  # RFC 8314 section 3.2
_LATEST = 200  # how many of the newest mails are looked at


@dataclass(frozen=True)
class _Mail:
    """One mail; `done` is what is done with it once its export is on disk."""

    message: EmailMessage
    done: Callable[[], None]

    @property
    def mark(self) -> str:
        """What it is known by (RFC 5322 section 3.6.4)."""
        return str(self.message.get("message-id", "")).strip() or str(self.message.get("date", ""))

    @property
    def rank(self) -> float:
        """When it was sent, for telling which is the newest."""
        try:
            return parsedate_to_datetime(str(self.message["date"])).timestamp()
        except (TypeError, ValueError):
            return 0.0


@asynccontextmanager
async def open_mailbox(target: Target) -> AsyncIterator[Session]:
    """A session on the mailbox; whatever is read stays unread until the export is on disk."""
    yield _MailSession(target)


class _MailSession(Session):
    async def pull(self, path: str, name: str | None, step: Step) -> Sequence[Part]:
        """The matching attachments of the newest mail that matches, unless it was taken before."""
        mails = await asyncio.to_thread(_read_mails, self._target, step)
        fitting = [mail for mail in mails if _fits(mail.message, step)]
        if not fitting:
            raise NotNowError("no mail has arrived that matches sender and subject")
        newest = max(fitting, key=lambda mail: mail.rank)
        topic = f"taken {step.says}"
        if self._target.recall(topic) == newest.mark:
            raise NotNowError("no new mail has arrived since the one that was taken before")
        parts = list(self._attachments(newest.message, path, name, step))
        if not parts:
            subject = str(newest.message.get("subject", ""))
            raise CollectError(FailureKind.STEP, f'the mail "{subject[:80]}" has no attachment {path}')
        self.remembered[topic] = newest.mark
        if self._procedure.then != "keep":
            self.afterwards.append(newest.done)
        return parts

    def _attachments(self, message: EmailMessage, pattern: str, name: str | None, step: Step) -> list[Part]:
        parts: list[Part] = []
        for attachment in message.iter_attachments():
            called = (attachment.get_filename() or "").replace("\\", "/").rpartition("/")[2]
            if not called or not fnmatchcase(called, pattern):
                continue
            payload = attachment.get_payload(decode=True)
            content = payload if isinstance(payload, bytes) else b""
            if len(content) > self._limit(step):
                raise CollectError(FailureKind.TOO_LARGE, f"{called} has more than {self._limit(step)} bytes")
            parts.append(Part(called, content))
        if name is not None:
            parts = [Part(name if len(parts) == 1 else f"{name}/{part.name}", part.content) for part in parts]
        return parts


def _fits(message: EmailMessage, step: Step) -> bool:
    return all(
        pattern is None or pattern.compiled.search(str(message.get(header, "")).encode())
        for header, pattern in (("from", step.sender), ("subject", step.subject))
    )


def _read_mails(target: Target, step: Step) -> list[_Mail]:
    if target.procedure.folder is not None:
        folder = fill(target.procedure.folder, values_of(target.source, target.procedure))
        return _from_maildir(target, target.folder / folder)
    return _from_server(target)


def _parsed(content: bytes) -> EmailMessage:
    message = email.message_from_bytes(content, policy=email.policy.default)
    assert isinstance(message, EmailMessage)  # noqa: S101 (that is what the policy makes)
    return message


def _from_maildir(target: Target, folder: Path) -> list[_Mail]:
    if not (folder / "cur").is_dir():
        raise CollectError(
            FailureKind.SETUP, f"{folder} is not a Maildir", hint="it has folders named cur, new and tmp"
        )
    box = mailbox.Maildir(str(folder), create=False)
    remove = target.procedure.then == "remove"
    try:
        return [
            _Mail(_parsed(box.get_bytes(key)), partial(_settle, folder, key, remove=remove))
            for key in sorted(box.keys())[-_LATEST:]
        ]
    except OSError as exc:
        raise CollectError(FailureKind.PERMISSION, f"{exc.filename}: {exc.strerror}") from exc


def _settle(folder: Path, key: str, *, remove: bool) -> None:
    """Remove a mail from a Maildir, or flag it as seen."""
    box = mailbox.Maildir(str(folder), create=False)
    if remove:
        box.discard(key)
    elif key in box:
        message = box[key]
        message.set_subdir("cur")
        message.add_flag("S")
        box[key] = message


def _from_server(target: Target) -> list[_Mail]:
    place = f"{target.source.address} port {target.source.port or _PORT}"
    with _Server(target, place) as server:
        return [
            _Mail(_parsed(server.fetch(uid)), partial(_settle_there, target, place, uid))
            for uid in server.ask("SEARCH", "ALL")[0].decode().split()[-_LATEST:]
        ]


def _settle_there(target: Target, place: str, uid: str) -> None:
    """Move a mail to another mailbox of the server, or remove it."""
    with _Server(target, place) as server:
        if target.procedure.then == "move":
            server.create(target.procedure.move_to)
            server.ask("COPY", uid, target.procedure.move_to)
        server.ask("STORE", uid, "+FLAGS", r"(\Deleted)")
        server.expunge()


class _Server:
    """A log-in to an IMAP server, with its errors as ours."""

    def __init__(self, target: Target, place: str) -> None:
        self._target = target
        self._place = place

    def __enter__(self) -> "_Server":
        source, account = self._target.source, self._target.account
        assert account is not None  # noqa: S101 (checked when the estate file is read)
        port = source.port or _PORT
        try:
            self._imap = imaplib.IMAP4_SSL(
                source.address, port, ssl_context=peer_context(source, self._target.folder), timeout=_TIMEOUT_S
            )
        except ConnectionRefusedError as exc:
            raise CollectError(FailureKind.REFUSED, f"{self._place}: connection refused") from exc
        except OSError as exc:
            verdict = peer_verdict(source, exc)
            raise verdict or CollectError(FailureKind.UNREACHABLE, f"{self._place}: {exc.strerror or exc}") from exc
        try:
            self._imap.login(account.user, account.password.reveal() if account.password else "")
        except imaplib.IMAP4.error as exc:
            self._imap.shutdown()
            raise CollectError(FailureKind.LOGIN, f"{self._place} refuses the log-in") from exc
        answer, _ = self._imap.select(self._target.procedure.mailbox)
        if answer != "OK":
            raise CollectError(FailureKind.STEP, f"{self._place} has no mailbox {self._target.procedure.mailbox}")
        return self

    def __exit__(self, *_: object) -> None:
        try:
            self._imap.logout()
        except (imaplib.IMAP4.error, OSError):
            self._imap.shutdown()

    def ask(self, command: str, *arguments: str) -> list[Any]:
        """One command about mails by their unique numbers, with the data that the server answers."""
        try:
            answer, data = self._imap.uid(command, *arguments)
        except (imaplib.IMAP4.error, OSError) as exc:
            raise CollectError(FailureKind.INCOMPLETE, f"{self._place}: {command}: {exc}") from exc
        if answer != "OK":
            raise CollectError(FailureKind.STEP, f"{self._place} answers {answer} to {command}")
        return data

    def fetch(self, uid: str) -> bytes:
        """A whole mail, which stays unread."""
        found = next((one for one in self.ask("FETCH", uid, "(BODY.PEEK[])") if isinstance(one, tuple)), (b"", b""))
        return bytes(found[1])

    def create(self, name: str) -> None:
        """Make a mailbox unless it is there."""
        self._imap.create(name)

    def expunge(self) -> None:
        """Let go of what was marked as deleted."""
        self._imap.expunge()
