"""Collecting over HTTPS: from the simulated firewall and booking server, and from a real nginx."""

import hashlib
import os
import re
import socket
import subprocess
import threading
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

import pytest

from historon.standins.certificates import SelfSigned
from historon.standins.pierglass import Pierglass, PierglassFault
from historon.standins.tidewall import Tidewall, TidewallFault
from historon.standins.web import Reply, Request, WebServer
from tests.conftest import PASSWORD, EstateFolder, Result, collect, describe_estate, parts_of
from tests.peers import program
from tests.waiting import is_listening, wait_for

_RULES = '<?xml version="1.0"?>\n<rules>\n  <rule action="allow" name="quays"/>\n  <rule action="allow" name="office"/>\n</rules>\n'
_SESSION = """
  { send = "POST /api/session", json = { user = "{user}", password = "{password}" }, learn_secret = { token = "json:/session/token" } },
  { send = "/api/system", headers = { x-tide-token = "{token}" }, learn = { version = "json:/version" } },
  KEEP
  { tidy = "DELETE /api/session", headers = { x-tide-token = "{token}" } },
"""
_EXPORT = """{ keep = "GET /api/export", headers = { x-tide-token = "{token}" }, as = "rules.xml", ends_with = "</rules>",
  check = { lacks = ['status="error"'] } MORE },"""


def _one_line(text: str) -> str:
    return " ".join(text.split())


@pytest.fixture
def wall(tmp_path: Path) -> Iterator[Tidewall]:
    device = Tidewall("wall", tmp_path / "wall", lambda: _RULES)
    device.start()
    yield device
    device.release.set()
    device.stop()


def _estate(
    estate: EstateFolder,
    device: WebServer,
    keep: str = _EXPORT,
    *,
    steps: str = _SESSION,
    procedure: str = "",
    source: str = "",
    more: str = "",
) -> EstateFolder:
    pin = source or f'certificate = "{device.fingerprint}"'
    return describe_estate(
        estate,
        over="https",
        steps=_one_line(steps.replace("KEEP", keep).replace("MORE", more)),
        procedure=procedure,
        source=f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\n{pin}',
    )


def test_a_token_is_learnt_used_and_given_back(estate: EstateFolder, wall: Tidewall) -> None:
    result = collect(_estate(estate, wall))
    assert result.code == 0, result.said
    assert parts_of(estate) == {"rules.xml": _RULES.encode()}
    assert wall.tokens == set()


def test_rehearsing_hides_what_was_learnt_as_a_secret(estate: EstateFolder, wall: Tidewall) -> None:
    seen: list[str] = []
    remember = wall.tokens.add
    wall.tokens = _Watched(seen, remember)
    result = _estate(estate, wall).run("rehearse", "s", PW=PASSWORD, UP="x")
    assert result.code == 0, result.said
    assert seen
    assert seen[0] not in result.said
    assert '"version"' in result.out


class _Watched(set[str]):
    def __init__(self, seen: list[str], _add: Callable[[str], None]) -> None:
        super().__init__()
        self._seen = seen

    def add(self, token: str) -> None:
        self._seen.append(token)
        super().add(token)


def test_a_download_cannot_choose_its_folder(estate: EstateFolder, wall: Tidewall) -> None:
    digest = hashlib.sha256(_RULES.encode()).hexdigest()
    pull = f'{{ pull = "/api/export", headers = {{ x-tide-token = "{{token}}" }}, checksum = "{digest}" }},'
    assert collect(_estate(estate, wall, pull)).code == 0
    assert parts_of(estate) == {"rules.xml": _RULES.encode()}


@pytest.mark.parametrize(
    ("fault", "told"),
    [
        (TidewallFault.EXPIRES, "the server answered with status 401"),
        (TidewallFault.HALF, "the connection broke in the middle of an answer"),
        (TidewallFault.ERROR, 'the answer contains "status="error""'),
        (TidewallFault.HANGS, "timed out after 3s without a complete answer"),
        (TidewallFault.AWAY, "it redirects to another server, elsewhere.example"),
    ],
)
def test_each_fault_has_its_message(estate: EstateFolder, wall: Tidewall, fault: TidewallFault, told: str) -> None:
    _estate(estate, wall, procedure='step_deadline = "3s"')
    wall.fault = fault
    result = collect(estate)
    assert (result.code, told in result.err) == (3, True), result.said
    assert "step 3 of 4 (keep GET /api/export)" in result.err
    wall.fault = None
    assert collect(estate).code == 0


def test_what_the_server_asks_to_wait_for_is_waited_for(estate: EstateFolder, wall: Tidewall) -> None:
    wall.fault = TidewallFault.BUSY
    assert collect(_estate(estate, wall)).code == 0


def test_the_order_of_attributes_is_no_change_in_canonical_form(estate: EstateFolder, wall: Tidewall) -> None:
    _estate(estate, wall, more=", canonical = true")
    assert collect(estate).code == 0
    wall.fault = TidewallFault.LEAKS
    assert "unchanged" in collect(estate).said
    assert b'<rule action="allow" name="quays"></rule>' in parts_of(estate)["rules.xml"]


def test_a_new_version_moves_the_interface(estate: EstateFolder, wall: Tidewall) -> None:
    keep = _EXPORT.replace("MORE", """, when = { version = '^9' }""") + _EXPORT.replace(
        "/api/export", "/api/v2/configuration"
    ).replace("MORE", """, when = { version = '^1\\d' }""")
    _estate(estate, wall, keep)
    assert collect(estate).code == 0
    wall.version = "10.0"
    assert "unchanged" in collect(estate).said
    wall.version = "8.0"
    assert 'no step with a part fits: version is "8.0"' in collect(estate).err


def test_a_wrong_password_is_tried_once(estate: EstateFolder, wall: Tidewall) -> None:
    _estate(estate, wall, procedure="tries = 3")
    result = collect(estate, PW="mutiny-1789")
    assert "mutiny-1789" not in result.said
    assert "the server answered with status 401" in result.err
    assert "Historon does not repeat it, as accounts lock" in result.err
    assert wall.requests == 1


def test_the_certificate_decides_who_is_talked_to(estate: EstateFolder, wall: Tidewall) -> None:
    result = collect(_estate(estate, wall, source="skip = 'x'\n".replace("skip", "max_age").replace("'x'", '"1d"')))
    assert "is not trusted: self-signed certificate" in result.err
    assert "historon sources pin s" in result.err
    assert collect(_estate(estate, wall, source=f'authority = "{wall.tls.certificate}"')).code == 0
    old = wall.fingerprint
    wall.stop()
    wall.renew()
    wall.start()
    requests = wall.requests
    result = collect(_estate(estate, wall, source=f'certificate = "{old}"'))
    assert "THE CERTIFICATE HAS CHANGED" in result.err
    assert wall.fingerprint in result.err
    assert wall.requests == requests, "nothing was sent"


def _greet_in_the_clear(server: socket.socket) -> None:
    with server.accept()[0] as connection:
        connection.sendall(b"hello, no TLS here\r\n" * 10)
        connection.recv(1000)


def test_what_cannot_be_reached(estate: EstateFolder, wall: Tidewall) -> None:
    _estate(estate, wall)
    wall.stop()
    assert "connection refused" in collect(estate).err
    with socket.create_server(("127.0.0.1", 0)) as silent:
        threading.Thread(target=_greet_in_the_clear, args=[silent], daemon=True).start()
        wall.port = silent.getsockname()[1]
        result = collect(_estate(estate, wall))
    assert "does not speak TLS correctly" in result.err
    wall.start()


# A web application


@pytest.fixture
def booking(tmp_path: Path) -> Iterator[Pierglass]:
    exports: Mapping[str, tuple[str, bytes]] = {
        "week-21.xml": ("2026-05-24T03:00", b"<w>21</w>"),
        "week-23.xml": ("2026-06-07T03:00", b"<w>23</w>"),
        "week-22.xml": ("2026-05-31T03:00", b"<w>22</w>"),
    }
    device = Pierglass("booking", tmp_path / "booking", lambda: exports)
    device.start()
    yield device
    device.stop()


_LOGIN = """
  { send = "/login", learn_secret = { forgery = "xpath://input[@name='forgery']/@value" } },
  { send = "POST /login", form = { user = "{user}", password = "{password}", forgery = "{forgery}" } },
"""
_LISTED = """
  { send = "/api/exports", learn = { exports = "json:/exports" } },
  { pick = "export", from = "exports", newest = "made", where = { kind = "weekly" } },
  { pull = "/exports/{export.file}", as = "week.xml" },
"""


def test_logging_in_by_form_and_picking_the_newest(estate: EstateFolder, booking: Pierglass) -> None:
    assert collect(_estate(estate, booking, steps=_LOGIN + _LISTED)).code == 0
    assert parts_of(estate) == {"week.xml": b"<w>23</w>"}


def test_the_list_may_stand_in_a_page(estate: EstateFolder, booking: Pierglass) -> None:
    steps = (
        _LOGIN
        + """
      { send = "/exports", learn = { files = "xpaths://td/a/@href" } },
      { each = "file", from = "files", where = { text = '2[23]' }, steps = [{ pull = "{file}" }] },
    """
    )
    assert collect(_estate(estate, booking, steps=steps)).code == 0
    assert parts_of(estate) == {"week-23.xml": b"<w>23</w>", "week-22.xml": b"<w>22</w>"}


def test_a_log_in_page_is_no_export(estate: EstateFolder, booking: Pierglass) -> None:
    _estate(estate, booking, steps=_LOGIN + '{ pull = "/exports/week-21.xml" }')
    assert collect(estate).code == 0
    result = collect(estate, PW="mutiny-1789")
    assert "the log-in page came back: 127.0.0.1 refused the log-in" in result.err
    booking.fault = PierglassFault.FORGETS
    _estate(
        estate,
        booking,
        steps=_LOGIN.replace("form =", "check = { status = 200 }, form =") + '{ pull = "/exports/week-21.xml" }',
        procedure="login_page = 'never-there'",
    )
    assert "week-21.xml is a web page" in collect(estate).err, "without a pattern inspection still sees it"
    _estate(estate, booking, steps='{ pull = "/exports/week-21.xml" }')
    result = collect(estate)
    assert (result.code, "a log-in page came instead" in result.err) == (3, True)


def test_an_empty_list_and_a_lost_page_are_told(estate: EstateFolder, booking: Pierglass) -> None:
    booking.fault = PierglassFault.EMPTY
    assert "nothing to pick: no item of exports has " in collect(_estate(estate, booking, steps=_LOGIN + _LISTED)).err
    booking.fault = None
    lost = _LOGIN + '{ pull = "/exports/week-99.xml" OPT }, { keep = "/api/exports", as = "list" }'
    assert "the server answered with status 404" in collect(_estate(estate, booking, steps=lost.replace("OPT", ""))).err
    result = collect(_estate(estate, booking, steps=lost.replace("OPT", ", optional = true")))
    assert (result.code, "was left out: the server answered with status 404" in result.out) == (0, True)


# Other ways to log in, and what stands in headers and cookies


class _Guarded(WebServer):
    """Asks for a digest (RFC 7616) at /digest and a bearer token at /bearer; /restconf/data is a small RESTCONF server."""

    def answer(self, request: Request) -> Reply:
        given = request.headers.get("authorization", "")
        if request.path == "/bearer":
            return Reply(b"in", 200) if given == f"Bearer {PASSWORD}" else Reply(b"out", 401)
        if request.path == "/digest":
            return (
                Reply(b"in")
                if self._digested(given)
                else Reply(
                    b"",
                    401,
                    headers={"www-authenticate": 'Digest realm="r", nonce="n1", qop="auth", algorithm=SHA-256'},
                )
            )
        if request.path == "/restconf/data":
            well = (
                given.startswith("Basic ")
                and request.headers["accept"] == "application/yang-data+json"
                and request.query == {"content": "config"}
            )
            return Reply(b'{"b": {"z": 1, "a": 2}, "a": []}', 200 if well else 406, "application/yang-data+json")
        return Reply(b"hello", headers={"set-cookie": "ship=heron", "x-berth": "7"})

    def _digested(self, given: str) -> bool:
        fields = dict(re.findall(r'(\w+)="?([^",]+)"?', given.removeprefix("Digest ")))
        if fields.get("username") != "config-reader":
            return False

        def digest(text: str) -> str:
            return hashlib.sha256(text.encode()).hexdigest()

        secret, asked = digest(f"config-reader:r:{PASSWORD}"), digest("GET:/digest")
        return str(fields["response"]) == digest(f"{secret}:n1:{fields['nc']}:{fields['cnonce']}:auth:{asked}")


@pytest.fixture
def guarded(tmp_path: Path) -> Iterator[_Guarded]:
    made = _Guarded("guarded", tmp_path / "guarded")
    made.start()
    yield made
    made.stop()


@pytest.mark.parametrize("auth", ["bearer", "digest"])
def test_tokens_and_digests(estate: EstateFolder, guarded: _Guarded, auth: str) -> None:
    _estate(estate, guarded, steps=f'{{ keep = "/{auth}", as = "x" }}', procedure=f'auth = "{auth}"')
    assert collect(estate).code == 0
    assert parts_of(estate) == {"x": b"in"}
    assert "the server answered with status 401" in collect(estate, PW="mutiny-1789").err


def test_headers_and_cookies_are_learnt(estate: EstateFolder, guarded: _Guarded) -> None:
    steps = '{ send = "/x", learn = { ship = "cookie:ship", berth = "header:X-Berth" } }, { keep = "/x?{ship}-{berth}", as = "{ship}-{berth}" }'
    assert collect(_estate(estate, guarded, steps=steps)).code == 0
    assert parts_of(estate) == {"heron-7": b"hello"}
    lost = '{ send = "/x", learn = { ship = "cookie:boat" } }, { keep = "/x", as = "x" }'
    assert "the answer has no cookie:boat" in collect(_estate(estate, guarded, steps=lost)).err


def test_the_shipped_restconf_procedure(estate: EstateFolder, guarded: _Guarded) -> None:
    _estate(estate, guarded, steps='{ pull = "/x" }')
    text = (estate.path / "historon.toml").read_text().replace('procedure = "p"', 'procedure = "restconf"')
    estate.write(text)
    assert collect(estate).code == 0
    assert parts_of(estate)["config.json"] == b'{\n  "a": [],\n  "b": {\n    "a": 2,\n    "z": 1\n  }\n}\n'


# Large and hostile answers


class _Refusing(WebServer):
    """Answers with a status for so many requests, and then as it should."""

    status, times, content = 503, 2, b"later"
    after: str | None = None

    def answer(self, request: Request) -> Reply:
        if self.requests <= self.times:
            return Reply(self.content, self.status, headers={"retry-after": self.after} if self.after else {})
        return Reply(b"hostname a\n")


@pytest.fixture
def refusing(tmp_path: Path) -> Iterator[_Refusing]:
    made = _Refusing("refusing", tmp_path / "refusing")
    made.start()
    yield made
    made.stop()


def _patient(estate: EstateFolder) -> EstateFolder:
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace("tries = 1", "tries = 3"))
    return estate


@pytest.mark.parametrize("status", [408, 425, 502, 503, 504])
@pytest.mark.parametrize("step", ['{ pull = "/x" }', '{ keep = "/x", as = "x" }'])
def test_what_is_refused_for_now_is_asked_again(
    estate: EstateFolder, refusing: _Refusing, status: int, step: str
) -> None:
    refusing.status = status
    result = collect(_patient(_estate(estate, refusing, steps=step)))
    assert result.code == 0, result.said
    assert refusing.requests == 3


@pytest.mark.parametrize(
    ("status", "content", "said"),
    [
        (400, b"<h1>400 No required SSL certificate was sent</h1>", "give the account a certificate and its key"),
        (404, b"", "status 404 (Not Found)"),
        (415, b"", "it expects another content-type"),
        (500, b"", "status 500 (Internal Server Error)"),
    ],
)
def test_a_status_is_told_in_words_with_what_to_do(
    estate: EstateFolder, refusing: _Refusing, status: int, content: bytes, said: str
) -> None:
    refusing.status, refusing.content, refusing.times = status, content, 99
    result = collect(_patient(_estate(estate, refusing, steps='{ pull = "/x" }')))
    assert (result.code, said in result.err) == (3, True), result.said
    assert refusing.requests == 1, "it would be the same again"


def test_what_changes_something_is_asked_once_and_a_long_wait_is_said(
    estate: EstateFolder, refusing: _Refusing
) -> None:
    posted = '{ send = "POST /make" }, { pull = "/x" }'
    assert "status 503 (Service Unavailable)" in collect(_patient(_estate(estate, refusing, steps=posted))).err
    assert refusing.requests == 1
    refusing.after, refusing.times = "7200", 99
    result = collect(_patient(_estate(estate, refusing, steps='{ pull = "/x" }')))
    assert "the server asks to wait 2h (Retry-After)" in result.err
    assert "longer than the step's deadline" in result.err


class _Flood(WebServer):
    size = 3_000_000

    def answer(self, request: Request) -> Reply:
        return Reply(
            b"x" * self.size, headers={"content-disposition": "attachment; filename*=UTF-8''..%2F..%2Fetc%2Fpass%00wd"}
        )


def test_size_limits_hold_and_names_are_tamed(estate: EstateFolder, tmp_path: Path) -> None:
    flood = _Flood("flood", tmp_path / "flood")
    flood.start()
    assert "it exceeds 1.0 MB" in collect(_estate(estate, flood, steps='{ pull = "/x", max_size = "1MB" }')).err
    flood.size = 40_000_000
    result = collect(_estate(estate, flood, steps='{ pull = "/x" }'))
    assert result.code == 0, result.said
    (name,) = parts_of(estate)
    assert "/" not in name
    assert "\0" not in name
    flood.stop()


# A real server

NGINX = program("nginx")


@pytest.fixture
def nginx(tmp_path: Path) -> Iterator[tuple[int, SelfSigned]]:
    if NGINX is None:
        pytest.skip("this machine does not have a web server")
    tls = SelfSigned.make(tmp_path, "nginx")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (tmp_path / "www").mkdir()
    (tmp_path / "www" / "export.cfg").write_text("hostname real\nend\n")
    hashed = subprocess.run(
        ["openssl", "passwd", "-apr1", PASSWORD], capture_output=True, text=True, check=True
    ).stdout.strip()
    (tmp_path / "users").write_text(f"config-reader:{hashed}\n")
    for path in (tmp_path, *tmp_path.parents):
        if path.owner() == Path.home().owner() and path != Path("/tmp"):
            path.chmod(path.stat().st_mode | 0o711)
    config = tmp_path / "nginx.conf"
    config.write_text(f"""
daemon off; pid {tmp_path}/nginx.pid; error_log stderr crit; {"user root;" if os.geteuid() == 0 else ""}
events {{}}
http {{ access_log off; client_body_temp_path {tmp_path}/body; proxy_temp_path {tmp_path}/proxy; fastcgi_temp_path {tmp_path}/f;
uwsgi_temp_path {tmp_path}/u; scgi_temp_path {tmp_path}/s;
server {{ listen 127.0.0.1:{port} ssl; ssl_certificate {tls.certificate}; ssl_certificate_key {tls.key}; root {tmp_path}/www;
location /moved {{ return 302 /export.cfg; }}
auth_basic "exports"; auth_basic_user_file {tmp_path}/users; }} }}
""")
    process = subprocess.Popen([NGINX, "-c", config, "-p", tmp_path], stderr=subprocess.DEVNULL)
    wait_for(lambda: is_listening(port, process))
    yield port, tls
    process.terminate()
    process.wait()


def _from_nginx(estate: EstateFolder, nginx: tuple[int, SelfSigned], path: str, auth: str) -> Result:
    port, tls = nginx
    describe_estate(
        estate,
        over="https",
        steps=f'{{ pull = "{path}", as = "export.cfg" }}',
        procedure=f'auth = "{auth}"',
        source=f'address = "localhost"\nport = {port}\ncredentials = "c"\nauthority = "{tls.certificate}"',
    )
    return collect(estate)


def test_a_real_server_with_basic_authentication_and_a_redirect(
    estate: EstateFolder, nginx: tuple[int, SelfSigned]
) -> None:
    result = _from_nginx(estate, nginx, "/export.cfg", "basic")
    assert result.code == 0, result.out
    assert parts_of(estate) == {"export.cfg": b"hostname real\nend\n"}
    assert "unchanged" in _from_nginx(estate, nginx, "/moved", "basic").out
    result = _from_nginx(estate, nginx, "/export.cfg", "none")
    assert (result.code, "the server answered with status 401" in result.err) == (3, True)
    assert "the server answered with status 404" in _from_nginx(estate, nginx, "/nothing", "basic").err
