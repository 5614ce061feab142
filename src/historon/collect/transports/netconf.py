"""NETCONF over SSH (RFC 6241, RFC 6242): hello, both framings, and operations asked for in words or in XML."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from lxml import etree

from historon.base.quantities import size_text
from historon.base.threads import apart
from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.framing import ChunkedFraming, EndOfMessageFraming, Framing, FramingError
from historon.collect.transports.interface import TAIL, Answer, Session, Target
from historon.collect.transports.xml import parse_xml
from historon.estate import Clauses, Procedure, Put, Said, Saying

if TYPE_CHECKING:  # asyncssh takes half a second: it is imported where a session begins
    import asyncssh

    from historon.collect.transports.host_keys import Known

__all__ = ["Editing", "Netconf", "Subtree", "open_session"]

_BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
_NETCONF = f"{{{_BASE}}}"
_CONFIRMED = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"  # the version whose commits may persist
_BASE_1_0, _BASE_1_1 = "urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:base:1.1"
_NAMESPACES: Any = {None: _BASE}  # the default namespace
_CHUNK = 65536
# Some servers lose a request that reaches them in one read with our hello: it follows after a pause, as long as such a
# server needed for its own hello, within these limits.
_SHORTEST_PAUSE_S, _LONGEST_PAUSE_S = 0.05, 0.5
_WORDS = (
    "write get-config DATASTORE, get, lock DATASTORE, unlock DATASTORE, validate DATASTORE, discard-changes, commit, "
    "confirmed-commit SECONDS, confirm, or the operation's XML"
)
_ERRORS = {"access-denied": FailureKind.PERMISSION, "lock-denied": FailureKind.STEP}  # RFC 6241 appendix A


class Subtree(Clauses, frozen=True, kw_only=True):
    """Which part of a datastore is asked for (RFC 6241 section 6)."""

    filled: ClassVar[tuple[str, ...]] = ("filter",)
    filter: str | None = None


class Editing(Clauses, frozen=True, kw_only=True):
    """How a datastore takes what is put: in the place of what it holds, or merged with it (RFC 6241 section 7.2)."""

    operation: Literal["replace", "merge"] = "replace"


class Netconf(Procedure, frozen=True, kw_only=True):
    """`over = "netconf"`: operations (RFC 6241) over SSH (RFC 6242)."""

    over: ClassVar[str] = "netconf"
    port: ClassVar[int] = 830
    over_ssh: ClassVar[bool] = True
    logs_in_at_once: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Subtree
    pulling: ClassVar[type[Clauses] | None] = None
    putting: ClassVar[type[Clauses] | None] = Editing


@asynccontextmanager
async def open_session(target: Target[Netconf], known: "Known | None") -> AsyncIterator[Session[Netconf]]:
    """Connect, open the subsystem, exchange hellos, and close the session when all is done (RFC 6241 section 7.8)."""
    import asyncssh

    from historon.collect.transports.ssh import connect

    async with connect(target, known) as connection:
        try:
            process = await connection.create_process(subsystem="netconf", encoding=None)
        except asyncssh.Error as exc:
            message = f"the device has no NETCONF for this account: {exc.reason}"
            raise CollectError(FailureKind.PERMISSION, message, hint="enable NETCONF on the device") from exc
        session = _NetconfSession(target, process)
        await session.greet()
        yield session
        session.bid_farewell()


class _NetconfSession(Session[Netconf]):
    def __init__(self, target: Target[Netconf], process: "asyncssh.SSHClientProcess[bytes]") -> None:
        super().__init__(target)
        self._process = process
        self._framing: Framing = EndOfMessageFraming()
        self._capabilities: set[str] = set()
        self._message_id = 0

    async def greet(self) -> None:
        """Say hello and listen to theirs; chunked framing follows where both know it (RFC 6242 section 4.1)."""
        self._send(
            f'<hello xmlns="{_BASE}"><capabilities><capability>{_BASE_1_0}</capability>'
            f"<capability>{_BASE_1_1}</capability></capabilities></hello>".encode()
        )
        loop = asyncio.get_running_loop()
        began = loop.time()
        hello = self._parsed(await self._receive(int(self._procedure.max_size)))
        await asyncio.sleep(min(max(_SHORTEST_PAUSE_S, loop.time() - began), _LONGEST_PAUSE_S))
        found = hello.iterfind(f".//{_NETCONF}capability")
        self._capabilities = {(capability.text or "").strip() for capability in found}
        if not self._capabilities & {_BASE_1_0, _BASE_1_1}:
            raise CollectError(FailureKind.STEP, "its hello names no known version of NETCONF", tail=self.tail)
        if _BASE_1_1 in self._capabilities:
            self._framing = ChunkedFraming(bytes(self._framing.waiting))

    async def say(self, what: str, step: Saying[Subtree]) -> Answer:
        """Ask for an operation and return its data, or its whole reply where it has none."""
        reply = await self._operation(self._request(what.strip(), step.how.filter), self.limit(step))
        data = reply.find(f"{_NETCONF}data")
        shown = data if data is not None else reply
        if data is not None and len(data) == 1:
            shown = data[0]
            shown.tail = None
        return Answer(etree.tostring(shown, encoding="utf-8") + b"\n")

    async def put(self, place: str, content: bytes, step: Put[Editing]) -> Answer:
        """Edit a datastore (RFC 6241 section 7.2); what is put is the data of a reply, as it was kept."""
        self._check_capability("edit-config", place)
        edit = etree.Element(f"{_NETCONF}edit-config", nsmap=_NAMESPACES)
        etree.SubElement(etree.SubElement(edit, f"{_NETCONF}target"), f"{_NETCONF}{place}")
        etree.SubElement(edit, f"{_NETCONF}default-operation").text = step.how.operation
        config = etree.SubElement(edit, f"{_NETCONF}config")
        try:
            given = parse_xml(content)
        except LookupError as exc:
            raise CollectError(FailureKind.STEP, f"the part to push is not XML: {exc.args[0]}") from exc
        # With one element in it a reply was kept as that element, with more as the reply's own `data`.
        config.extend(list(given) if given.tag == f"{_NETCONF}data" else [given])
        reply = await self._operation(edit, int(self._procedure.max_size))
        return Answer(etree.tostring(reply, encoding="utf-8") + b"\n")

    def may_repeat(self, what: Said) -> bool:
        """See Session: reading changes nothing."""
        return isinstance(what, str) and what.strip().partition(" ")[0] in ("get", "get-config")

    def _request(self, what: str, subtree: str | None) -> Any:
        """The operation's element (RFC 6241 section 7)."""
        if what.startswith("<"):
            return self._ours(what)
        verb, _, datastore = what.partition(" ")
        if verb in ("confirmed-commit", "confirm"):
            return self._confirming(verb, datastore)
        self._check_capability(verb, datastore)
        operation = etree.Element(f"{_NETCONF}{verb}", nsmap=_NAMESPACES)
        holder = {"get-config": "source", "validate": "source", "lock": "target", "unlock": "target"}.get(verb)
        if (holder is None) == bool(datastore) or verb not in _VERBS:
            raise CollectError(FailureKind.STEP, f'"{what}" is not an operation', hint=_WORDS)
        if holder:
            etree.SubElement(etree.SubElement(operation, f"{_NETCONF}{holder}"), f"{_NETCONF}{datastore}")
        if subtree:
            holder_of_filter = etree.SubElement(operation, f"{_NETCONF}filter", type="subtree")
            holder_of_filter.append(self._ours(subtree))
        return operation

    def _confirming(self, verb: str, seconds: str) -> Any:
        """A commit that undoes itself unless it is confirmed, which another session may do (RFC 6241 section 8.4)."""
        if not any(one.startswith(_CONFIRMED) for one in self._capabilities):
            hint = "commit takes effect at once, and permanently"
            raise CollectError(FailureKind.STEP, "the device has no confirmed commit by another session", hint=hint)
        operation = etree.Element(f"{_NETCONF}commit", nsmap=_NAMESPACES)
        token = f"historon-{self._target.source.name}"
        if verb == "confirm":
            etree.SubElement(operation, f"{_NETCONF}persist-id").text = token
            return operation
        if not seconds.isdecimal():
            raise CollectError(FailureKind.STEP, f'"{verb} {seconds}" is not an operation', hint=_WORDS)
        etree.SubElement(operation, f"{_NETCONF}confirmed")
        etree.SubElement(operation, f"{_NETCONF}confirm-timeout").text = seconds
        etree.SubElement(operation, f"{_NETCONF}persist").text = token
        return operation

    def _ours(self, text: str) -> Any:
        try:
            return parse_xml(text.encode())
        except LookupError as exc:
            raise CollectError(FailureKind.SETUP, f"the step's XML is not well-formed: {exc.args[0]}") from exc

    def _check_capability(self, verb: str, datastore: str) -> None:
        """A datastore beside the running one is there only where its capability is announced (RFC 6241 section 8)."""
        wanted = f"urn:ietf:params:netconf:capability:{datastore}:"
        if datastore in ("candidate", "startup") and not any(one.startswith(wanted) for one in self._capabilities):
            raise CollectError(FailureKind.STEP, f"the device has no {datastore} datastore", hint=f"{verb} running")

    async def _operation(self, operation: Any, limit: int) -> Any:
        self._message_id += 1
        request = etree.Element(f"{_NETCONF}rpc", nsmap=_NAMESPACES)
        request.set("message-id", str(self._message_id))
        request.append(operation)
        self._send(etree.tostring(request, encoding="utf-8"))
        received = await self._receive(limit)
        if len(received) > _CHUNK:  # a thread parses it beside the others, as lxml lets go of the interpreter
            reply = await apart(self._target.source.name, self._parsed, received)
        else:
            reply = self._parsed(received)
        if reply.get("message-id") != str(self._message_id):
            raise CollectError(FailureKind.STEP, "the reply belongs to another request", tail=self.tail)
        for error in reply.iterfind(f"{_NETCONF}rpc-error"):
            if (error.findtext(f"{_NETCONF}error-severity") or "error").strip() == "error":
                tag = (error.findtext(f"{_NETCONF}error-tag") or "?").strip()
                words = (error.findtext(f"{_NETCONF}error-message") or "").strip()
                kind = _ERRORS.get(tag, FailureKind.STEP)
                raise CollectError(
                    kind, f"the device answered with the error {tag}: {words}".rstrip(": "), tail=self.tail
                )
        return reply

    def _parsed(self, message: bytes) -> Any:
        try:
            return parse_xml(message)
        except LookupError as exc:
            raise CollectError(FailureKind.INCOMPLETE, str(exc.args[0]), tail=message[-TAIL:]) from exc

    def _send(self, message: bytes) -> None:
        try:
            self._process.stdin.write(self._framing.framed(b'<?xml version="1.0" encoding="UTF-8"?>' + message))
        except (BrokenPipeError, OSError) as exc:
            raise self._broken() from exc

    async def _receive(self, limit: int) -> bytes:
        """The next whole message."""
        import asyncssh

        while True:
            try:
                message = self._framing.next_message()
                if message is not None:
                    self._tail = message[-TAIL:]
                    return message
                data = await self._process.stdout.read(_CHUNK)
            except FramingError as exc:
                raise CollectError(FailureKind.STEP, f"its framing is wrong: {exc}", tail=self.tail) from exc
            except (asyncssh.Error, OSError) as exc:
                raise self._broken() from exc
            if not data:
                raise self._broken()
            self._framing.feed(data)
            self._tail = bytes(self._framing.waiting[-TAIL:])
            if self._framing.pending > limit:
                raise CollectError(FailureKind.TOO_LARGE, f"the reply exceeds {size_text(limit)}", tail=self.tail)

    def _broken(self) -> CollectError:
        return CollectError(
            FailureKind.INCOMPLETE, "the device closed the session in the middle of a reply", tail=self.tail
        )

    def bid_farewell(self) -> None:
        """Ask the device to close the session; its answer is not waited for."""
        self._message_id += 1
        closing = f'<rpc xmlns="{_BASE}" message-id="{self._message_id}"><close-session/></rpc>'
        with suppress(CollectError):
            self._send(closing.encode())


_VERBS = {"get-config", "get", "lock", "unlock", "validate", "discard-changes", "commit"}
