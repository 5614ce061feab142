"""A Pierglass booking server: a web application with a log-in form, an anti-forgery token and exports. Made up."""

import json
import secrets
from collections.abc import Callable, Mapping
from enum import StrEnum
from pathlib import Path

from historon.standins.web import Reply, Request, WebServer

__all__ = ["Pierglass", "PierglassFault"]

_FORM = """<!doctype html><title>Pierglass</title>
<form method="post" action="/login"><input type="hidden" name="forgery" value="{token}">
<input name="user"><input type="password" name="password"><button>Log in</button></form>
"""


class PierglassFault(StrEnum):
    """What a booking server can be made to do wrong."""

    FORGETS = "forgets everybody, and shows its log-in page with status 200"
    EMPTY = "has no exports"


class Pierglass(WebServer):
    """One server. `exports` are the ready-made ones: by file name, when each was made and what is in it."""

    def __init__(self, name: str, folder: Path, exports: Callable[[], Mapping[str, tuple[str, bytes]]]) -> None:
        super().__init__(name, folder)
        self.fault: PierglassFault | None = None
        self.user = "config-reader"
        self.password = "harbour-light"
        self._exports = exports
        self._forgery = secrets.token_hex(8)
        self._sessions: set[str] = set()

    def answer(self, request: Request) -> Reply:
        if request.path == "/login" and request.method == "POST":
            return self._log_in(request)
        known = request.cookies.get("pierglass") in self._sessions and self.fault is not PierglassFault.FORGETS
        if request.path == "/login" or not known:
            return _page(_FORM.format(token=self._forgery))
        exports = {} if self.fault is PierglassFault.EMPTY else self._exports()
        if request.path == "/exports":
            rows = "".join(
                f'<tr><td><a href="/exports/{name}">{name}</a></td><td class="made">{made}</td></tr>\n'
                for name, (made, _) in exports.items()
            )
            return _page(f"<!doctype html><title>Exports</title><table>{rows}</table>")
        if request.path == "/api/exports":
            listed = [{"file": name, "made": made, "kind": "weekly"} for name, (made, _) in exports.items()]
            return Reply(json.dumps({"exports": listed}).encode(), kind="application/json")
        name = request.path.removeprefix("/exports/")
        if name in exports:
            return Reply(exports[name][1], kind="application/octet-stream")
        return Reply(b"there is no such page", 404)

    def _log_in(self, request: Request) -> Reply:
        form = request.form
        if form.get("forgery") != self._forgery:
            return Reply(b"forged request", 403)
        if (form.get("user"), form.get("password")) != (self.user, self.password):
            return _page(_FORM.format(token=self._forgery))
        session = secrets.token_hex(8)
        self._sessions.add(session)
        return Reply(status=303, headers={"location": "/exports", "set-cookie": f"pierglass={session}; HttpOnly"})


def _page(text: str) -> Reply:
    return Reply(text.encode(), kind="text/html; charset=utf-8")
