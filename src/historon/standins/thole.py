"""A Thole switch: NETCONF over SSH (RFC 6241, RFC 6242) with a running and a startup datastore. Made up.

Where its configuration may be edited it has a candidate too, which is validated, and committed for good or for a while
(RFC 6241 sections 8.3, 8.4 and 8.6).
"""

import asyncio
import re
from collections.abc import Callable
from enum import StrEnum
from typing import Any

import asyncssh
from lxml import etree

from historon.collect.transports.framing import ChunkedFraming, EndOfMessageFraming, Framing
from historon.standins.device import SshDevice

__all__ = ["Thole", "TholeFault"]

_BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
_NS = f"{{{_BASE}}}"


class TholeFault(StrEnum):
    """What a switch can be made to do wrong."""

    DENIES = "denies the account its configuration"
    HALF = "closes the session in the middle of its configuration"
    HANGS = "never answers a request"
    GARBLES = "breaks its framing"
    SHUFFLES = "writes the attributes of its configuration in another order each time"
    UNREACHABLE = "cannot be reached any more once a commit waits to be confirmed"
    INVALID = "finds every candidate invalid"


class Thole(SshDevice):
    """One switch. `config` is asked for the configuration's XML each time; `chunked`: whether it knows version 1.1."""

    def __init__(
        self,
        name: str,
        config: Callable[[], str],
        *,
        authorized: asyncssh.SSHKey | None = None,
        chunked: bool = True,
        save: Callable[[str], None] | None = None,
    ) -> None:
        """`save` takes an edited configuration; without it there is no candidate."""
        super().__init__(name, authorized)
        self._save = save
        self._candidate: str | None = None
        self._before: str | None = None  # what comes back unless the commit is confirmed
        self._persists = ""  # by what another session may confirm it; empty: it ends with its own
        self.fault: TholeFault | None = None
        self.chunked = chunked
        self.locked = False
        self._config = config
        self._turn = 0

    async def _session(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        if process.subsystem != "netconf":
            process.stderr.write(b"this switch speaks NETCONF only\n")
            process.exit(1)
            return
        if self._is_mended():
            self.fault = None
        if self.fault is TholeFault.UNREACHABLE and self._before is not None:
            process.close()
            return
        try:
            await self._converse(process)
        except (asyncssh.Error, OSError, EOFError):
            pass  # the client has gone
        finally:
            if not self._persists:
                self.run_out()
            process.close()

    async def _converse(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        framing: Framing = EndOfMessageFraming()
        versions = ["1.0", "1.1"] if self.chunked else ["1.0"]
        offered = [f"urn:ietf:params:netconf:base:{one}" for one in versions]
        offered.append("urn:ietf:params:netconf:capability:startup:1.0")
        if self._save is not None:
            wanted = ("candidate:1.0", "confirmed-commit:1.1", "validate:1.1")
            offered += [f"urn:ietf:params:netconf:capability:{one}" for one in wanted]
        listed = "".join(f"<capability>{one}</capability>" for one in offered)
        hello = f'<hello xmlns="{_BASE}"><capabilities>{listed}</capabilities><session-id>4</session-id></hello>'
        process.stdout.write(framing.framed(hello.encode()))
        greeted = False
        while data := await process.stdin.read(65536):
            framing.feed(data)
            while (message := framing.next_message()) is not None:
                if not greeted:
                    greeted = True
                    if self.chunked and b"base:1.1" in message:
                        framing = ChunkedFraming(bytes(framing.waiting))
                    continue
                if not await self._answer(process, framing, message):
                    return

    async def _answer(self, process: asyncssh.SSHServerProcess[bytes], framing: Framing, message: bytes) -> bool:
        request = etree.fromstring(message)
        operation = request[0]
        name = etree.QName(operation).localname
        if self.fault is TholeFault.HANGS:
            await asyncio.Event().wait()
        reply = etree.Element(f"{_NS}rpc-reply", nsmap=_NAMESPACES)
        reply.set("message-id", request.get("message-id", ""))
        self._fill(reply, name, operation)
        sent = framing.framed(etree.tostring(reply))
        if self.fault is TholeFault.HALF and name == "get-config":
            process.stdout.write(sent[: len(sent) // 2])
            return False
        if self.fault is TholeFault.GARBLES and name == "get-config":
            sent = b"\n#zero\n" + sent
        process.stdout.write(sent)
        return name != "close-session"

    def _fill(self, reply: Any, name: str, operation: Any) -> None:
        """The body of a reply."""
        if name == "get-config" and self.fault is TholeFault.DENIES:
            _refuse(reply, "access-denied", "this account may not read the configuration")
        elif name == "validate" and self.fault is TholeFault.INVALID:
            _refuse(reply, "invalid-value", "vlan 4095 cannot be")
        elif name in ("get-config", "get"):
            data = etree.SubElement(reply, f"{_NS}data")
            config = etree.fromstring(self._written().encode())
            wanted = operation.find(f"{_NS}filter")
            data.append(_filtered(config, wanted[0]) if wanted is not None else config)
        elif name == "commit" and (operation.findtext(f"{_NS}persist-id") or "") != self._persists:
            _refuse(reply, "invalid-value", "another commit waits to be confirmed")
        elif name in ("edit-config", "commit", "discard-changes") and self._save is not None:
            self._edit(name, operation, self._save)
            etree.SubElement(reply, f"{_NS}ok")
        else:
            self.locked = {"lock": True, "unlock": False}.get(name, self.locked)
            etree.SubElement(reply, f"{_NS}ok")

    def _edit(self, name: str, operation: Any, save: Callable[[str], None]) -> None:
        """Edit the candidate, which is what `commit` makes the running configuration."""
        if name == "edit-config":
            self._candidate = etree.tostring(operation.find(f"{_NS}config")[0]).decode()
        elif name == "discard-changes":
            self._candidate = None
        elif operation.find(f"{_NS}confirmed") is not None:
            self._before = self._config()
            self._persists = operation.findtext(f"{_NS}persist") or ""
            save(self._candidate or self._before)
        else:
            if self._before is None and self._candidate is not None:
                save(self._candidate)
            self._before, self._candidate, self._persists = None, None, ""

    def run_out(self) -> None:
        """The time in which a commit can be confirmed is over: what was there before comes back."""
        if self._before is not None and self._save is not None:
            self._save(self._before)
        self._before, self._candidate, self._persists = None, None, ""

    def _written(self) -> str:
        """The configuration, with its attributes in another order every other time where that is the fault."""
        text = self._config()
        self._turn += 1
        if self.fault is TholeFault.SHUFFLES and self._turn % 2:
            text = re.sub(r'<(\w+) (\w+="[^"]*") (\w+="[^"]*")', r"<\1 \3 \2", text)
        return text


_NAMESPACES: Any = {None: _BASE}


def _refuse(reply: Any, tag: str, words: str) -> None:
    """Answer with an error (RFC 6241 section 4.3)."""
    error = etree.SubElement(reply, f"{_NS}rpc-error")
    for name, text in (
        ("error-type", "protocol"),
        ("error-tag", tag),
        ("error-severity", "error"),
        ("error-message", words),
    ):
        etree.SubElement(error, f"{_NS}{name}").text = text


def _filtered(config: Any, wanted: Any) -> Any:
    """Of the configuration's top element only the children that the filter names (RFC 6241 section 6)."""
    names = {etree.QName(child).localname for child in wanted}
    for child in list(config):
        if names and etree.QName(child).localname not in names:
            config.remove(child)
    return config
