"""A Tidewall firewall: an interface over HTTPS that takes a token, and gives its rules as XML. Made up.

`POST /api/session` with user and password as JSON gives a token, which `X-Tide-Token` carries on. `GET /api/system`
tells version and time; `GET /api/export` gives the rules, and where they may be edited `PUT /api/export` takes others;
`DELETE /api/session` ends it.
"""

import json
import secrets
import threading
import time
from collections.abc import Callable
from enum import StrEnum
from pathlib import Path

from historon.standins.web import Reply, Request, WebServer

__all__ = ["Tidewall", "TidewallFault"]


class TidewallFault(StrEnum):
    """What a firewall can be made to do wrong."""

    EXPIRES = "forgets its token after one request"
    HALF = "closes the connection in the middle of the export"
    ERROR = "answers 200 with an error inside"
    BUSY = "answers 429 twice, and then as it should"
    HANGS = "never answers the export"
    LEAKS = "shuffles the attributes of its XML"
    AWAY = "redirects to another server"


class Tidewall(WebServer):
    """One firewall. `rules` is asked for the export each time; `version` decides under which path it stands."""

    def __init__(
        self, name: str, folder: Path, rules: Callable[[], str], save: Callable[[str], None] | None = None
    ) -> None:
        """`save` takes edited rules; without it they cannot be edited."""
        super().__init__(name, folder)
        self._save = save
        self.fault: TidewallFault | None = None
        self.version = "9.4.1"
        self.user = "config-reader"
        self.password = "harbour-light"
        self.tokens: set[str] = set()
        self._rules = rules
        self._busy = 2
        self.release = threading.Event()

    def answer(self, request: Request) -> Reply:
        if (request.method, request.path) == ("POST", "/api/session"):
            return self._log_in(request)
        token = request.headers.get("x-tide-token", "")
        if token not in self.tokens:
            return _json({"error": "no session"}, 401)
        if self.fault is TidewallFault.EXPIRES:
            self.tokens.clear()
        match request.method, request.path:
            case "DELETE", "/api/session":
                self.tokens.discard(token)
                return _json({"result": "ok"})
            case "GET", "/api/system":
                return _json({"version": self.version, "time": time.strftime("%Y-%m-%dT%H:%M:%S+0000", time.gmtime())})
            case "GET", path if path == self._export_path:
                return self._export()
            case "PUT", path if path == self._export_path and self._save is not None:
                return self._take(request.body, self._save)
        return _json({"error": f"there is no {request.path}"}, 404)

    @property
    def _export_path(self) -> str:
        """Where the export stands: it moved with version 10."""
        if int(self.version.partition(".")[0]) < 10:
            return "/api/export"
        return "/api/v2/configuration"

    def _log_in(self, request: Request) -> Reply:
        try:
            given = json.loads(request.body)
        except ValueError:
            return _json({"error": "not JSON"}, 400)
        if (given.get("user"), given.get("password")) != (self.user, self.password):
            return _json({"error": "wrong user or password"}, 401)
        token = secrets.token_hex(16)
        self.tokens.add(token)
        return _json({"session": {"token": token, "lasts_s": 300}})

    def _take(self, body: bytes, save: Callable[[str], None]) -> Reply:
        if b"</rules>" not in body:
            return _json({"error": "these are no rules"}, 422)
        save(body.decode())
        return _json({"result": "ok"})

    def _export(self) -> Reply:
        body = self._rules().encode()
        match self.fault:
            case TidewallFault.ERROR:
                return Reply(b'<?xml version="1.0"?>\n<result status="error">export is running already</result>\n')
            case TidewallFault.HALF:
                return Reply(body, kind="application/xml", cut=len(body) // 2)
            case TidewallFault.HANGS:
                self.release.wait(60)
            case TidewallFault.AWAY:
                return Reply(status=302, headers={"location": "https://elsewhere.example/export"})
            case TidewallFault.BUSY if self._busy:
                self._busy -= 1
                return Reply(b"later", 429, headers={"retry-after": "0"})
        if self.fault is TidewallFault.LEAKS:
            body = body.replace(b'action="allow" name=', b"name=").replace(b"/>", b' action="allow"/>')
        disposition = {"content-disposition": 'attachment; filename="../../etc/rules.xml"'}
        return Reply(body, kind="application/xml", headers=disposition)


def _json(data: object, status: int = 200) -> Reply:
    return Reply(json.dumps(data).encode(), status, "application/json")
