"""The surroundings of tests: a folder with an estate, the built program, and devices on loopback."""

import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from historon.standins.background import Background
from historon.standins.capstan import Capstan
from historon.store import FolderStore
from tests.peers import PEERS, needs, peers_in_words
from tests.prefork import Prefork

settings.register_profile("house", deadline=None)  # nothing is timed in tests
settings.load_profile("house")
# A shell starts what runs in its background with Ctrl-C ignored, and so would be every program that is tested.
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

needs_patch = needs("patch")
PROGRAM = Path(sys.executable).with_name("historon")


@dataclass(frozen=True)
class Result:
    code: int
    out: str
    err: str

    @property
    def said(self) -> str:
        return self.out + self.err

    @property
    def data(self) -> dict[str, Any]:
        """What --json printed."""
        read: dict[str, Any] = json.loads(self.out)
        return read

    @property
    def rows(self) -> list[dict[str, Any]]:
        rows: list[dict[str, Any]] = self.data["rows"]
        return rows


_prefork = Prefork()


def historon(*arguments: str | Path, cwd: Path, **variables: str) -> Result:
    """Run the built program as a user would, piped."""
    environment = {"PATH": os.environ["PATH"], "HOME": str(cwd), **variables}
    code, out, err = _prefork.run([*map(str, arguments)], cwd, environment)
    result = Result(code, out.decode("utf-8", "replace"), err.decode("utf-8", "replace"))
    assert "Traceback" not in result.said
    assert "a defect in Historon" not in result.said, result.err
    return result


def pytest_xdist_auto_num_workers() -> int:
    """Three times as many as there are processors: most of the time a test waits, for a device, a prompt, a lease."""
    return 3 * (os.cpu_count() or 1)


@pytest.fixture(scope="session", autouse=True)
def _end_of_prefork() -> Iterator[None]:
    yield
    _prefork.close()


@dataclass(frozen=True)
class EstateFolder:
    """An estate in a folder; `write` replaces its file, `run` runs a command in it."""

    path: Path

    def write(self, text: str, name: str = "historon.toml") -> None:
        (self.path / name).write_text(text, encoding="utf-8")

    def run(self, *arguments: str | Path, **variables: str) -> Result:
        return historon(*arguments, cwd=self.path, **variables)

    def store(self) -> FolderStore:
        return until_its_end(FolderStore(self.path / "store"))


_OPENED: list[FolderStore] = []


def until_its_end(store: FolderStore) -> FolderStore:
    """A store that is closed when the test is over."""
    _OPENED.append(store)
    return store


@pytest.fixture(autouse=True)
def _stores_are_closed() -> Iterator[None]:
    yield
    while _OPENED:
        _OPENED.pop().close()


@pytest.fixture
def estate(tmp_path: Path) -> EstateFolder:
    folder = EstateFolder(tmp_path / "estate")
    folder.path.mkdir()
    (folder.path / "keys").mkdir(mode=0o700)
    FolderStore.create(folder.path / "store").close()
    return folder


@pytest.fixture
def files_estate(estate: EstateFolder) -> EstateFolder:
    """One source: the folder `data`."""
    estate.write(FILES_ESTATE)
    (estate.path / "data").mkdir()
    (estate.path / "data" / "a.conf").write_text("one\ntwo\nthree\n")
    return estate


FILES_ESTATE = """
[estate]
name = "Test"
time_zone = "Europe/Oslo"
[procedures.files]
over = "local"
steps = [{ pull = "data" }]
[[sources]]
name = "files"
procedure = "files"
max_age = "26h"
"""

ROUTER_CONFIG = (
    "hostname t\n! saved at 1\n!\n"
    + "".join(f"interface port-{n}\n  description berth {n} t# here\n!\n" for n in range(30))
    + "user x password pw-canary-1234\nend\n"
)


@pytest.fixture
def background() -> Iterator[Background]:
    made = Background()
    yield made
    made.stop()


@pytest.fixture
def router(background: Background) -> Iterator[Capstan]:
    """A Capstan router, listening, whose configuration is ROUTER_CONFIG."""
    device = Capstan("t", lambda: ROUTER_CONFIG)
    background.run(device.start())
    yield device
    background.run(device.stop())


@pytest.fixture
def router_estate(estate: EstateFolder, router: Capstan) -> Callable[..., EstateFolder]:
    """Writes an estate with that router as its source; keyword arguments replace or add lines."""

    def write(procedure: str = "", source: str = "", step: str = "", **also: str) -> EstateFolder:
        (estate.path / "keys" / "password").write_text("harbour-light\n")
        (estate.path / "keys" / "password").chmod(0o600)
        pin = f'host_key = "{router.fingerprint}"' if "host_key" not in source and not also.get("unpinned") else ""
        estate.write(f"""
[estate]
name = "Test"
time_zone = "Europe/Oslo"
[credentials.r]
user = "config-reader"
password = "file:keys/password"
[procedures.capstan]
over = "ssh-shell"
prompt = '^[\\w.-]+# ?$'
pager = '-- more --'
steps = [{{ keep = "list settings active", as = "active.cfg", ends_with = "end" {step} }}]
noise = ['^! saved at ']
{"" if "tries" in procedure else "tries = 1"}
{procedure}
[[sources]]
name = "t"
address = "127.0.0.1"
port = {router.port}
procedure = "capstan"
credentials = "r"
{pin}
{source}
{also.get("more", "")}
""")
        return estate

    return write


def describe_estate(
    estate: EstateFolder,
    *,
    over: str,
    steps: str,
    procedure: str = "",
    source: str = "",
    more: str = "",
    head: str = "",
) -> EstateFolder:
    """One source `s` whose account is config-reader with the secrets in $PW and $UP."""
    if "tries" not in procedure:
        procedure += "\ntries = 1"
    estate.write(f"""
[estate]
name = "Test"
{head}
[credentials.c]
user = "config-reader"
password = "env:PW"
elevation = "env:UP"
[procedures.p]
over = "{over}"
retry_pause = "10ms"
{procedure}
steps = [{steps}]
[[sources]]
name = "s"
procedure = "p"
{source}
{more}
""")
    return estate


PASSWORD, ELEVATION = "harbour-light", "crow-nest-7"


def collect(estate: EstateFolder, *arguments: str, **variables: str) -> Result:
    """A round, in whose output neither secret may stand."""
    result = estate.run("collect", *arguments, **{"PW": PASSWORD, "UP": ELEVATION, **variables})
    assert PASSWORD not in result.said
    assert ELEVATION not in result.said
    return result


def parts_of(estate: EstateFolder, source: str = "s", number: int | None = None) -> dict[str, bytes]:
    """The parts of a version, by default the last good one."""
    store = estate.store()
    chosen = number or store.state(source).good
    assert chosen is not None, f"{source} has no good version"
    found = {part.name: store.read(part) for part in store.parts(source, chosen)}
    store.close()
    return found


class WebListener:
    """A web server that notes what it is sent, and answers with `status` and `answer`."""

    def __init__(self) -> None:
        self.heard: list[tuple[str, dict[str, str], bytes]] = []
        self.status = 204
        self.answer = b""
        listener = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("content-length") or 0))
                headers = {key.lower(): value for key, value in self.headers.items()}
                listener.heard.append((self.path, headers, body))
                self.send_response(listener.status)
                self.end_headers()
                self.wfile.write(listener.answer)

            do_GET = do_POST  # noqa: N815 (so it is called there)

            def log_message(self, format: str, *args: object) -> None:  # noqa: A002 (so it is called there)
                return None

        self._server = HTTPServer(("127.0.0.1", 0), Handler)
        self._thread = threading.Thread(target=self._server.serve_forever)
        self.address = f"http://127.0.0.1:{self._server.server_port}/CANARY"

    def __enter__(self) -> "WebListener":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._thread.join()
        self._server.server_close()


@pytest.fixture
def listener() -> Iterator[WebListener]:
    with WebListener() as made:
        yield made


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """The last line: against how many real servers and programs this was tested."""
    terminalreporter.write_line(peers_in_words())


def pytest_sessionfinish(session: pytest.Session, exitstatus: int) -> None:
    """Where all of them are to be there, as one that is missing would go unnoticed, it is an error."""
    if os.environ.get("ALL_PEERS") and not all(PEERS.values()) and exitstatus == pytest.ExitCode.OK:
        session.exitstatus = pytest.ExitCode.TESTS_FAILED


def prune_to(estate: EstateFolder, number: int) -> None:
    """Prune every source to its last so many versions, by a retention of the estate file."""
    table, default = f'[retention.last]\nall = "1ms"\nat_least = {number}\n', 'retention = "last"\n'
    text = (estate.path / "historon.toml").read_text()
    if "[retention.last]" not in text:
        if "[defaults]" in text:
            text = text.replace("[defaults]\n", f"[defaults]\n{default}")
        else:
            text += f"[defaults]\n{default}"
        estate.write(text + table)
    pruned = prune(estate)
    assert pruned.code == 0, pruned.said


def prune(estate: EstateFolder) -> Result:
    """Remove all that may go, however much that is."""
    number = sum(not row["stays"] for row in estate.run("prune", "--json").rows)
    return estate.run("prune", "--yes", *(["--exactly", str(number)] if number else []))


def sampled(number: int, cases: Iterable[Any]) -> list[Any]:
    """So many of the cases, spread over them, for `make test`; the others are for `make campaigns`.

    Cases that go the same way through the program, each with a mistake of its own, are worth playing, and seldom.
    """
    every = list(cases)
    chosen = {round(at * (len(every) - 1) / max(1, number - 1)) for at in range(number)}
    return [case if at in chosen else _in_campaigns(case) for at, case in enumerate(every)]


def _in_campaigns(case: Any) -> Any:
    if isinstance(case, type(pytest.param())):
        return pytest.param(*case.values, marks=[*case.marks, pytest.mark.campaign], id=case.id)
    return pytest.param(*(case if isinstance(case, tuple) else (case,)), marks=pytest.mark.campaign)
