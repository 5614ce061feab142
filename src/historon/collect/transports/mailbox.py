"""Exports that are mailed: from a Maildir on this machine, or from a server over IMAP (RFC 9051) and TLS."""

import email
import glob
import imaplib
import json
import mailbox
import os
import re
import time
from collections.abc import AsyncIterator, Callable, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager, contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage, Message
from email.policy import EmailPolicy
from email.utils import parsedate_to_datetime
from fnmatch import fnmatchcase
from functools import cached_property, partial
from pathlib import Path
from typing import Any, ClassVar

from historon.base.folders import Below
from historon.base.quantities import size_text
from historon.base.threads import apart
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.transports.interface import Origin, Session, Target
from historon.collect.transports.tls import peer_context, peer_verdict
from historon.collect.transports.waiting import Arriving, Choice, Seen, choose_next, deliveries, pulls_of
from historon.estate import Clauses, Pull, QuickPattern, describe, fill, values_of
from historon.store import Part

__all__ = ["Attached", "Mailbox", "open_session", "settle"]

_LONGEST_HEADER = 2000  # letters; a line has 998 at most (RFC 5322 section 2.1.1)
_TIMEOUT_S = 60
_ENVELOPE = 2**20  # bytes of a mail besides what is attached to it
_LATEST = 200  # how many of the newest mails are looked at
_ODD = timedelta(days=1)  # between a mail's own date and its arrival
_LAST_SECOND = 253_402_300_799  # 9999-12-31


class Attached(Clauses, frozen=True, kw_only=True):
    """Which mails are looked into (RFC 5322)."""

    sender: QuickPattern | None = None
    subject: QuickPattern | None = None


class Mailbox(Arriving, frozen=True, kw_only=True):
    """`over = "mailbox"`: attachments of mails, from a Maildir in `folder` or over IMAP (RFC 9051)."""

    over: ClassVar[str] = "mailbox"
    port: ClassVar[int] = 993
    by_certificate: ClassVar[bool] = True
    pulling: ClassVar[type[Clauses] | None] = Attached

    mailbox: str = "INBOX"

    def __post_init__(self) -> None:
        """One place to take mails from."""
        super().__post_init__()
        if self.folder is not None and self.mailbox != "INBOX":
            raise ValueError("takes mails from folder or over IMAP from mailbox, not both (remove one)")
        if self.folder is not None and "/" in self.move_to:
            raise ValueError(f"move_to is a folder of the Maildir: {self.move_to} cannot be one (leave out the slash)")

    @property
    def remote(self) -> bool:
        """See Procedure: a Maildir is a folder of this machine."""
        return self.folder is None


@dataclass(frozen=True)
class _Mail:
    """One mail where it lies: its key there, when it arrived if that is known, its size in bytes, how it is read."""

    key: str
    at: datetime | None
    size: int
    read: Callable[[], bytes]

    @property
    def identity(self) -> str:
        """See waiting: it is known by its key."""
        return self.key

    @property
    def arrived(self) -> datetime:
        """When it arrived; long ago where that is not known."""
        return self.at or datetime.min.replace(tzinfo=UTC)

    @cached_property
    def message(self) -> EmailMessage:
        """The mail; one whose headers are broken is read as far as it can be."""
        return _parsed(self.read())


@asynccontextmanager
async def open_session(target: Target[Mailbox], _known: object = None) -> AsyncIterator[Session[Mailbox]]:
    """A session on the mailbox; whatever is read stays unread until the export is on disk."""
    yield _MailSession(target)


_Useless = list[tuple[_Mail, CollectError]]


@dataclass(frozen=True)
class _Look:
    """What one pull finds: its new mails, each with its attachments, and those that should have some and have none."""

    pull: Pull[Attached]
    seen: Seen
    fitting: int
    parts: Mapping[str, Sequence[Part]]  # by the key of the mail
    whole: Sequence[_Mail]
    useless: _Useless


class _MailSession(Session[Mailbox]):
    def __init__(self, target: Target[Mailbox]) -> None:
        super().__init__(target)
        self._chosen: dict[str, Sequence[Part]] = {}

    async def pull(self, path: str, name: str | None, step: Pull[Attached]) -> Sequence[Part]:
        """The matching attachments of the oldest mail that matches and was not taken before.

        Where several steps take attachments, those that belong together are taken together.
        """
        if step.says not in self._chosen:
            await apart(self._target.source.name, self._choose, step)
        parts = self._chosen[step.says]
        if not parts and step.optional:
            raise CollectError(FailureKind.STEP, f"the mail has no attachment {path}", absent=True)
        if name is None:
            return parts
        if len(parts) == 1:
            return [replace(parts[0], name=name)]
        return [replace(part, name=f"{name}/{part.name}") for part in parts]

    def _choose(self, step: Pull[Attached]) -> None:
        """Which mails are taken, by all the steps that take any; what is to be remembered and done once they are."""
        pulls = pulls_of(self._target, step)
        with _mails(self._target) as there:
            looks = [self._look(pull, there) for pull in pulls]
            wanted = [pull.says for pull in pulls if not pull.optional]
            waiting = deliveries({look.pull.says: look.whole for look in looks}, self._procedure.together)
            choice = choose_next(waiting, wanted, self._procedure, new=all(look.seen.new for look in looks))
            useless = self._useless(looks)
            if choice is None:
                raise self._nothing(next(look for look in looks if look.pull.says == step.says), useless)
            self._chosen = {
                look.pull.says: look.parts[mail.key] if (mail := choice.one.get(look.pull.says)) else []
                for look in looks
            }
            self._check_together(choice, [look.pull for look in looks if look.pull.says in wanted])
            self._check_ours(choice)
            mails = [*{mail.identity: mail for mail in choice.one.values()}.values()]
            messages = [mail.message for mail in mails]
        self.waiting = len(choice.later)
        self.made = max((mail.at for mail in mails if mail.at), default=None)
        first = next(parts[0] for parts in self._chosen.values() if parts)
        self.origin = Origin(first.name, _sent(messages[0]) or self.made)
        self._remark(choice, mails[0], messages[0])
        if useless:
            more = f" (and {len(useless) - 1} more)" if len(useless) > 1 else ""
            self.remarks.append(f"{useless[-1][1].message}; it was not moved{more}")
        if self._procedure.then != "keep":
            self.owed = json.dumps([mail.key for mail in choice.taken])
        for look in looks:
            gone = [*choice.taken, *(mail for mail, _ in useless)]
            self.remembered[f"taken {look.pull.says}"] = look.seen.after(gone, there)

    def _look(self, pull: Pull[Attached], there: Sequence[_Mail]) -> _Look:
        seen = Seen.parse(self._target.recall(f"taken {pull.says}"))
        path = _pattern_of(self._target, pull)
        most = 2 * self.limit(pull) + _ENVELOPE  # as base64 takes a third more, and a mail has more than one part
        large = [mail for mail in there if mail.size > most and not seen.knows(mail)]
        if large:
            many = f"{len(large)} mail{'s' * (len(large) > 1)}"
            self.remarks.append(f"{many} of more than {size_text(most)} left unread (max_size sets the limit)")
        fitting = [mail for mail in there if seen.knows(mail) or (mail.size <= most and _fits(mail.message, pull))]
        parts: dict[str, Sequence[Part]] = {}
        useless: _Useless = []
        for mail in fitting:
            if not seen.knows(mail):
                try:
                    parts[mail.key] = self._attachments(mail.message, path, pull)
                except CollectError as exc:
                    useless.append((mail, exc))
        return _Look(pull, seen, len(fitting), parts, [mail for mail in fitting if mail.key in parts], useless)

    @staticmethod
    def _useless(looks: Sequence[_Look]) -> _Useless:
        """Mails of which no step can take anything; they keep no later one."""
        used = {key for look in looks for key in look.parts}
        found = {mail.key: (mail, exc) for look in looks for mail, exc in look.useless if mail.key not in used}
        return sorted(found.values(), key=lambda row: row[0].arrived)

    def _nothing(self, look: _Look, useless: _Useless) -> Exception:
        """Why there is nothing to take: the newest mail that should have an export and has none is a failure."""
        if not look.fitting:
            return NotNowError("no mail has arrived that matches sender and subject")
        if useless:
            return useless[-1][1]
        return NotNowError("no new mail has arrived since the last collected one")

    def _check_together(self, choice: Choice[_Mail], wanted: Sequence[Pull[Attached]]) -> None:
        """Wait for a mail that belongs to the others and has not come yet; without it the export is doubtful.

        What should be in the same mail does not come later.
        """
        there = [pull for pull in pulls_of(self._target, wanted[0]) if pull.says in choice.one] if wanted else []
        for pull in wanted:
            if pull.says in choice.one:
                continue
            subject = str(_header(next(iter(choice.one.values())).message, "subject"))[:80]
            came = max((mail.at for mail in choice.one.values() if mail.at), default=None)
            another = not any((pull.how.sender, pull.how.subject) == (one.how.sender, one.how.subject) for one in there)
            if another and came and self._target.clock() - came < self._procedure.together:
                raise NotNowError(f'the mail "{subject}" has arrived, but no attachment {pull.says} yet')
            self.doubts.append(f'no attachment {pull.says} came with the mail "{subject}"')

    def _check_ours(self, choice: Choice[_Mail]) -> None:
        """Take no mail that another source would take too: nobody could say whose it is. CollectError."""
        for rival in self._target.rivals():
            for pull in pulls_of(rival):
                pattern = _pattern_of(rival, pull)
                for mail in choice.one.values():
                    names = [_called(one) for one in mail.message.walk()]
                    if _fits(mail.message, pull) and any(name and fnmatchcase(name, pattern) for name in names):
                        subject = str(_header(mail.message, "subject"))[:80]
                        message = f'the mail "{subject}" fits {rival.source.name} too; neither collects it'
                        hint = "distinguish them by sender, subject or the attachment's name"
                        raise CollectError(FailureKind.STEP, message, hint=hint, again=False)

    def _remark(self, choice: Choice[_Mail], mail: _Mail, message: EmailMessage) -> None:
        if choice.passed:
            older = len(choice.taken) - len({one.identity for one in choice.one.values()})
            self.remarks.append(f"{older} older mail{'s' * (older > 1)} not collected")
        sent = _sent(message)
        if mail.at and sent and abs(sent - mail.at) > _ODD:
            way = "after" if sent > mail.at else "before"
            odd = describe(abs(sent - mail.at))
            self.remarks.append(f"its mail is dated {odd} {way} it arrived: is the device's clock right?")

    def _attachments(self, message: EmailMessage, pattern: str, step: Pull[Attached]) -> list[Part]:
        """CollectError when there are none, or when they cannot be had."""
        subject = str(_header(message, "subject"))[:80]
        try:
            parts = self._matching(message, pattern, step)
        except CollectError:
            raise
        except Exception as exc:  # (its parser raises whatever it meets in hostile mails)
            why = f'the mail "{subject}" cannot be read: its headers or parts are broken'
            raise CollectError(
                FailureKind.STEP, why, hint="move it away, and find out what sent it", again=False
            ) from exc
        if not parts:
            raise CollectError(FailureKind.STEP, f'the mail "{subject}" has no attachment {pattern}')
        return parts

    def _matching(self, message: EmailMessage, pattern: str, step: Pull[Attached]) -> list[Part]:
        parts: list[Part] = []
        for attachment in message.walk():
            called = _called(attachment)
            if not called or not fnmatchcase(called, pattern):
                continue
            payload = attachment.get_payload(decode=True)
            content = payload if isinstance(payload, bytes) else b""
            if len(content) > self.limit(step):
                raise CollectError(FailureKind.TOO_LARGE, f"{called} has more than {size_text(self.limit(step))}")
            parts.append(Part(called, content))
        return parts


def _pattern_of(target: Target[Mailbox], pull: Pull[Attached]) -> str:
    """Which attachments a source takes by a step."""
    user = target.account.user if target.account else ""
    return str(fill(pull.says, values_of(target.source, target.procedure, user)))


def _called(attachment: Message) -> str:
    """What an attachment is called, without folders."""
    return _file_name(attachment).replace("\\", "/").rpartition("/")[2]


def _header(message: EmailMessage, name: str) -> object:
    """A header; empty when it is not there, or broken beyond what the parser takes."""
    try:
        return message.get(name, "")
    except Exception:  # (its parser raises whatever it meets in hostile headers)
        return ""


def _file_name(message: Message) -> str:
    try:
        return message.get_filename() or ""
    except Exception:
        return ""


def _fits(message: EmailMessage, step: Pull[Attached]) -> bool:
    return all(
        pattern is None or pattern.compiled.search(str(_header(message, header)).encode("utf-8", "replace"))
        for header, pattern in (("from", step.how.sender), ("subject", step.how.subject))
    )


def _sent(message: EmailMessage) -> datetime | None:
    """When it was sent, by its own account (RFC 5322 section 3.6.1)."""
    try:
        told = parsedate_to_datetime(str(_header(message, "date")))
    except (TypeError, ValueError, OverflowError):
        return None
    return told if told.tzinfo else told.replace(tzinfo=UTC)


@contextmanager
def _mails(target: Target[Mailbox]) -> Iterator[list[_Mail]]:
    """The mails that are there, in the order in which they arrived; they can be read while this is open."""
    if target.procedure.folder is not None:
        yield _in_maildir(_maildir_of(target))
        return
    with _Server(target) as server:
        yield _on_server(server)


def settle(target: Target[Mailbox], owed: str) -> None:
    """Move, flag or remove the mails that were taken. CollectError, OSError when that cannot be done now."""
    keys = json.loads(owed)
    if target.procedure.folder is not None:
        for key in keys:
            there = target.procedure.move_to if target.procedure.then == "move" else None
            _settle_in_maildir(_maildir_of(target), key, there)
        return
    with _Server(target) as server:
        for key in keys:
            server.put_away(key)


class _Bounded(EmailPolicy):
    """Headers as they are, but for those that are longer than any that is meant: the parser goes to and fro in them."""

    def header_source_parse(self, sourcelines: list[str]) -> tuple[str, str]:
        name, value = super().header_source_parse(sourcelines)
        return name[:_LONGEST_HEADER], value[:_LONGEST_HEADER]


_POLICY = _Bounded()


def _parsed(content: bytes) -> EmailMessage:
    try:
        message = email.message_from_bytes(content, policy=_POLICY)
    except Exception:  # (its parser raises whatever it meets) what is left of it has no attachment, which is reported
        return EmailMessage(policy=_POLICY)
    assert isinstance(message, EmailMessage)  # noqa: S101 (that is what the policy makes)
    return message


def _maildir_of(target: Target[Mailbox]) -> Path:
    written: str = fill(target.procedure.folder or "", values_of(target.source, target.procedure))
    folder = target.folder / written
    if not (folder / "cur").is_dir():
        raise CollectError(
            FailureKind.SETUP, f"{folder} is not a Maildir", hint="a Maildir has folders named cur, new and tmp"
        )
    return folder


def _in_maildir(folder: Path) -> list[_Mail]:
    """By their delivery, which the names of a Maildir tell (cr.yp.to/proto/maildir.html)."""
    box = mailbox.Maildir(str(folder), create=False)
    try:
        keys = sorted(box.keys(), key=_order_of_delivery)
    except OSError as exc:
        raise CollectError(FailureKind.PERMISSION, f"{exc.filename}: {exc.strerror}") from exc
    return [
        _Mail(key, datetime.fromtimestamp(_delivered(key), UTC), _size_of(folder, key), partial(box.get_bytes, key))
        for key in keys[-_LATEST:]
    ]


def _size_of(folder: Path, key: str) -> int:
    """The size of a mail of a Maildir, whose file may have flags behind its key."""
    return max((file.stat().st_size for file in _files_of(folder, key)), default=0)


def _files_of(folder: Path, key: str) -> list[Path]:
    pattern = glob.escape(key)
    return [
        file
        for inner in ("new", "cur")
        for file in (*(folder / inner).glob(pattern), *(folder / inner).glob(f"{pattern}:2,*"))
    ]


def _order_of_delivery(key: str) -> tuple[int, list[tuple[str, int]]]:
    """The second, then what is in the name as numbers: its microseconds (`M99`, `M100`) are written without zeros."""
    pieces = re.findall(r"([^0-9]*)([0-9]*)", key)
    return _delivered(key), [(text, int(number or 0)) for text, number in pieces]


def _delivered(key: str) -> int:
    """In seconds since 1970, which the name of a delivered mail begins with."""
    first = key.partition(".")[0]
    return min(int(first), _LAST_SECOND) if first.isdecimal() else 0


def _settle_in_maildir(folder: Path, key: str, move_to: str | None) -> None:
    """Remove a mail from a Maildir, or move it to a folder in it, flagged as seen (cr.yp.to/proto/maildir.html).

    The folder is one as Maildir++ has them: `.taken`, with `cur`, `new` and `tmp`. Whoever delivers may write there, so
    no link in it is followed. Raises OSError, LinkError.
    """
    with Below(folder) as below:
        for inner in ("new", "cur"):
            with below.folder_at(inner) as place:
                names = [name for name in os.listdir(place) if name.partition(":2,")[0] == key]
                for name in names:
                    with suppress(FileNotFoundError):
                        if move_to is None:
                            os.unlink(name, dir_fd=place)
                        else:
                            _move_in_maildir(below, place, name, f".{move_to}")


def _move_in_maildir(below: Below, place: int, name: str, folder: str) -> None:
    for inner in ("new", "tmp"):
        with below.folder_at(f"{folder}/{inner}", make=True):
            pass
    key, _, flags = name.partition(":2,")
    with below.folder_at(f"{folder}/cur", make=True) as taken:
        os.rename(name, f"{key}:2,{''.join(sorted({*flags, 'S'}))}", src_dir_fd=place, dst_dir_fd=taken)


def _on_server(server: "_Server") -> list[_Mail]:
    """By their unique numbers, which ascend as mails arrive (RFC 9051 section 2.3.1.1)."""
    numbers = server.ask("SEARCH", "ALL")[0].decode().split()[-_LATEST:]
    arrivals = server.arrivals(numbers)
    keys = {uid: f"{server.validity}/{uid}" for uid in numbers}
    return [_Mail(key, *arrivals.get(uid, (None, 0)), partial(server.fetch, uid)) for uid, key in keys.items()]


class _Server:
    """A log-in to an IMAP server, with its errors as ours."""

    def __init__(self, target: Target[Mailbox]) -> None:
        self._target = target
        self._place = target.place
        self.validity = ""

    def __enter__(self) -> "_Server":
        source, account = self._target.source, self._target.account
        trusted = peer_context(source, self._target.folder)
        assert account is not None  # noqa: S101 (checked when the estate file is read)
        try:
            self._imap = imaplib.IMAP4_SSL(
                source.address,
                self._target.port,
                ssl_context=trusted,
                timeout=_TIMEOUT_S,
            )
        except ConnectionRefusedError as exc:
            raise CollectError(FailureKind.REFUSED, f"{self._place}: connection refused") from exc
        except OSError as exc:
            verdict = peer_verdict(self._target, exc)
            raise verdict or CollectError(FailureKind.UNREACHABLE, f"{self._place}: {exc.strerror or exc}") from exc
        except imaplib.IMAP4.error as exc:
            message = f"{self._place} does not answer as a mail server does"
            raise CollectError(FailureKind.UNREACHABLE, message) from exc
        try:
            self._imap.login(account.user, account.password.reveal() if account.password else "")
        except imaplib.IMAP4.abort as exc:
            self._imap.shutdown()
            message = f"{self._place} ended the connection while logging in"
            raise CollectError(FailureKind.UNREACHABLE, message) from exc
        except imaplib.IMAP4.error as exc:
            self._imap.shutdown()
            raise CollectError(FailureKind.LOGIN, f"{self._place} refused the log-in") from exc
        answer, _ = self._imap.select(self._target.procedure.mailbox)
        if answer != "OK":
            raise CollectError(FailureKind.STEP, f"{self._place} has no mailbox {self._target.procedure.mailbox}")
        validity = self._imap.response("UIDVALIDITY")[1]
        self.validity = validity[0].decode() if validity and validity[0] else ""
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
            raise CollectError(FailureKind.STEP, f"{self._place} answered {answer} to {command}")
        return data

    def fetch(self, uid: str) -> bytes:
        """A whole mail, which stays unread."""
        found = next((one for one in self.ask("FETCH", uid, "(BODY.PEEK[])") if isinstance(one, tuple)), (b"", b""))
        return bytes(found[1])

    def arrivals(self, numbers: Sequence[str]) -> dict[str, tuple[datetime | None, int]]:
        """When mails arrived and their sizes, by their unique numbers (RFC 9051 sections 2.3.3 and 2.3.4)."""
        if not numbers:
            return {}
        found = {}
        for row in self.ask("FETCH", ",".join(numbers), "(UID INTERNALDATE RFC822.SIZE)"):
            line = row[0] if isinstance(row, tuple) else row
            uid, told = re.search(rb"UID (\d+)", line or b""), imaplib.Internaldate2tuple(line or b"")
            size = re.search(rb"RFC822\.SIZE (\d+)", line or b"")
            if uid:
                at = datetime.fromtimestamp(time.mktime(told), UTC) if told else None
                found[uid[1].decode()] = at, int(size[1]) if size else 0
        return found

    def put_away(self, key: str) -> None:
        """Move a mail to another mailbox, or remove it; one of another mailbox of this name is left alone."""
        validity, _, uid = key.partition("/")
        if validity != self.validity:
            return
        if self._target.procedure.then == "move":
            self._imap.create(self._target.procedure.move_to)
            self.ask("COPY", uid, self._target.procedure.move_to)
        self.ask("STORE", uid, "+FLAGS", r"(\Deleted)")
        self._imap.expunge()
