"""What commands load before they do anything: a change that makes one heavier has to say so here.

Counted are modules of Historon, which no version of Python changes, and named are the libraries that take longest.
"""

import json
import subprocess
import sys

import pytest

from tests.conftest import EstateFolder

ESTATE = """
[estate]
name = "Weight"
[credentials.devices]
user = "reader"
password = "env:NOBODY"
[channels.mail]
kind = "mail"
to = ["a@quay.example"]
from = "b@quay.example"
server = "localhost"
[copies.away]
kind = "store"
path = "away"
[procedures.files]
over = "local"
steps = [{ pull = "data", as = "data" }]
noise = ['^! saved ']
[[sources]]
name = "files"
procedure = "files"
[procedures.router]
over = "ssh-shell"
prompt = '> ?$'
steps = [{ keep = "list settings", as = "active.cfg" }]
[[sources]]
name = "edge-1"
address = "127.0.0.1"
procedure = "router"
credentials = "devices"
"""
HEAVY = (
    "asyncio",
    "ssl",
    "rich",
    "email",
    "jinja2",
    "lxml",
    "asyncssh",
    "httpx",
    "psycopg",
    "obstore",
    "multiprocessing",
)
# By command: modules of Historon, and which of the heavy libraries.
_ASKED, _SHOWN = {"asyncio", "ssl"}, {"asyncio", "ssl", "rich"}
LOADED: dict[str, tuple[int, set[str]]] = {
    "--version": (8, set()),
    "--help": (9, set()),
    "status": (146, set()),
    "sources": (135, set()),
    "versions files": (134, set()),
    "show files": (137, set()),
    "diff files": (169, set()),
    "changes": (168, set()),
    "find time-server": (166, set()),
    "requirements": (165, set()),
    "rounds": (134, set()),
    "agenda": (145, set()),
    "notices": (209, {"ssl"}),
    "prune": (138, set()),
    "copies": (203, {"ssl"}),
    "collect files": (218, {"asyncio", "ssl"}),
}
_LOOK = """
import json, os, sys
said = os.dup(1)
os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
sys.argv = ["historon", *json.loads(sys.argv[1])]
try:
    from historon.cli.main import main
    main()
finally:
    loaded = [name for name, module in sys.modules.items() if type(module).__name__ != "_Deferred"]
    os.write(said, json.dumps(loaded).encode() + bytes([10]))
"""


@pytest.fixture(scope="module")
def weighed(tmp_path_factory: pytest.TempPathFactory) -> EstateFolder:
    """An estate with a change on record, a router that was never collected, a channel and a copy."""
    estate = EstateFolder(tmp_path_factory.mktemp("weight"))
    assert estate.run("new", ".").code == 0
    estate.write(ESTATE)
    for server in ("10.0.0.1", "10.0.0.9"):
        (estate.path / "data").write_text(f"hostname a\ntime-server {server}\nend\n")
        estate.run("collect", "files")
    return estate


@pytest.mark.parametrize("command", LOADED)
def test_a_command_loads_what_is_said_here_and_nothing_else(weighed: EstateFolder, command: str) -> None:
    look = [sys.executable, "-c", _LOOK, json.dumps(command.split())]
    done = subprocess.run(look, cwd=weighed.path, capture_output=True, text=True, check=False)
    loaded: list[list[str]] = [json.loads(line) for line in done.stdout.splitlines()]
    modules = {*max(loaded, key=len)}  # one process may look at foreign bytes
    assert modules >= {"historon.cli.main"}, done.stderr
    own = sum(one.split(".")[0] == "historon" for one in modules)
    assert (own, modules & {*HEAVY}) == LOADED[command]


def test_what_is_deferred_is_whole_once_it_is_used_whoever_uses_it_first() -> None:
    script = (
        "import sys\nfrom concurrent.futures import ThreadPoolExecutor\nfrom historon.base.lazily import defer\n"
        "defer('wave', 'xml', 'decimal', 'no_such_library')\n"
        "import wave, xml.dom.minidom, decimal\n"
        "print(type(wave).__name__, 'no_such_library' in sys.modules)\n"
        "with ThreadPoolExecutor(8) as threads:\n"
        "    found = list(threads.map(lambda _: wave.open, range(50)))\n"
        "print(type(wave).__name__, len({*found}), xml.dom.minidom.parseString('<a/>').documentElement.tagName)\n"
        "try:\n    wave.nothing\nexcept AttributeError as exc:\n    print(exc)\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == [
        "_Deferred False",
        "module 1 a",
        "module 'wave' has no attribute 'nothing'",
    ]
