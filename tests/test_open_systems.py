"""The procedures that come along for open systems, over a real SSH server, against the real programs."""

import os
import pwd
import re
import shutil
import sqlite3
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass, field
from pathlib import Path

import psycopg
import pytest

from tests.conftest import EstateFolder, sampled
from tests.openssh import OpenSshServer, describe_source, running_server
from tests.peers import needs, program
from tests.postgres import PASSWORD as DATABASE_PASSWORD
from tests.postgres import PostgresServer
from tests.postgres import running_server as running_database
from tests.waiting import free_port, wait_for

pytestmark = needs("an OpenSSH server")
_FRR = Path("/usr/lib/frr/bgpd")


@dataclass(frozen=True)
class System:
    """A procedure: the programs that it takes here, what is laid out for it, its values, and what is to come of it."""

    procedure: str
    programs: tuple[str, ...] = ()
    lay_out: Callable[[Path, ExitStack], dict[str, str]] = lambda _folder, _stack: {}
    parts: dict[str, bytes] = field(default_factory=dict)
    proven: bool = True

    def __str__(self) -> str:
        return self.procedure


def _files(**texts: str) -> Callable[[Path, ExitStack], dict[str, str]]:
    """A folder with these files, given as the value `path`."""

    def lay_out(folder: Path, _stack: ExitStack) -> dict[str, str]:
        for name, text in texts.items():
            (folder / name.replace("__", ".").replace("_", "-")).write_text(text)
        return {"path": str(folder)}

    return lay_out


def _openssh(folder: Path, _stack: ExitStack) -> dict[str, str]:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / "ssh_host_ed25519_key"], check=True)
    (folder / "sshd_config").write_text(f"Port 2222\nHostKey {folder}/ssh_host_ed25519_key\n")
    return {"path": str(folder), "sshd": f"{program('sshd')} -f {folder}/sshd_config"}


def _nginx(folder: Path, _stack: ExitStack) -> dict[str, str]:
    (folder / "nginx.conf").write_text(
        f"pid {folder.parent}/pid;\nerror_log stderr;\nevents {{}}\nhttp {{ access_log off; include sites/*; }}\n"
    )
    (folder / "sites").mkdir()
    (folder / "sites" / "quay").write_text("server { listen 8080; server_name quay.example; }\n")
    return {"path": str(folder), "nginx": f"{program('nginx')} -p {folder} -c {folder}/nginx.conf"}


def _nftables(folder: Path, _stack: ExitStack) -> dict[str, str]:
    """Rules in a network of their own, which nobody else has to live with."""
    script = folder / "nft"
    script.write_text('#!/bin/sh\nexec unshare --net sh -c \'nft add table inet quay && exec nft "$@"\' nft "$@"\n')
    script.chmod(0o755)
    return {"nft": str(script)}


def _sqlite(folder: Path, stack: ExitStack) -> dict[str, str]:
    writer = stack.enter_context(closing(sqlite3.connect(folder / "app.db")))
    writer.execute("PRAGMA journal_mode = WAL")
    writer.execute("CREATE TABLE berth (name)")
    writer.execute("INSERT INTO berth VALUES ('quay 3')")
    writer.commit()  # it stays open, and most of it in its log
    return {"database": str(folder / "app.db"), "place": str(folder / "copy.db")}


def _git(folder: Path, _stack: ExitStack) -> dict[str, str]:
    place = folder / "it.git"
    subprocess.run(["git", "init", "-q", "--bare", "--initial-branch=main", place], check=True)
    stream = b"commit refs/heads/main\ncommitter x <x@x> 1 +0000\ndata 1\nx\nM 100644 inline a\ndata 2\na\n\n"
    subprocess.run(["git", "--git-dir", place, "fast-import", "--quiet"], input=stream, check=True)
    return {"path": str(place)}


def _daemon(stack: ExitStack, *command: str) -> None:
    home = stack.enter_context(tempfile.TemporaryDirectory())
    environment = {**os.environ, "HOME": home}
    quiet = subprocess.DEVNULL
    running = subprocess.Popen(command, stdout=quiet, stderr=quiet, env=environment, cwd=home)  # what it leaves, too
    stack.callback(running.wait)
    stack.callback(running.kill)


def _frr(folder: Path, stack: ExitStack) -> dict[str, str]:
    folder.chmod(0o777)
    own = ["-S", "-Z", "-p", "0", "-P", "0", "--vty_socket", str(folder), "-i", str(folder / "pid")]
    _daemon(stack, str(_FRR), *own)
    wait_for(lambda: (folder / "bgpd.vty").exists(), "the router listens")
    shell = f"vtysh --vty_socket {folder}"
    setting = ["-c", "configure terminal", "-c", "router bgp 64512", "-c", "no bgp ebgp-requires-policy"]
    subprocess.run([*shell.split(), *setting], check=True, capture_output=True)
    return {"shell": shell}


def _etcd(folder: Path, stack: ExitStack) -> dict[str, str]:
    port, peers = free_port(), free_port()
    url, other = f"http://127.0.0.1:{port}", f"http://127.0.0.1:{peers}"
    _daemon(
        stack, "etcd", "--data-dir", str(folder / "data"), "--listen-client-urls", url, "--advertise-client-urls", url,
        "--listen-peer-urls", other, "--initial-advertise-peer-urls", other, "--initial-cluster", f"default={other}",
    )  # fmt: skip

    def put() -> bool:
        words = ["etcdctl", "--endpoints", f"127.0.0.1:{port}", "put", "berth/3", "ticket hall"]
        return subprocess.run(words, capture_output=True, check=False, timeout=60).returncode == 0

    wait_for(put, "the cluster answers")
    return {"endpoint": f"127.0.0.1:{port}", "place": str(folder / "snapshot.db")}


_BALANCER = """global
  maxconn 10
defaults
  mode tcp
  timeout connect 5s
  timeout client 5s
  timeout server 5s
listen quay
  bind 127.0.0.1:18443
  server app 127.0.0.1:443
"""
SYSTEMS = (
    System("openssh", ("sshd",), _openssh, {"ssh/sshd_config": b"Port 2222", "effective.conf": b"port 2222"}),
    System(
        "nginx", ("nginx",), _nginx, {"nginx/sites/quay": b"quay.example", "effective.conf": b"# configuration file"}
    ),
    System("sqlite", ("sqlite3",), _sqlite, {"database.sqlite": b"quay 3"}),
    System("git-repository", ("git",), _git, {"refs.txt": b"refs/heads/main", "repository.bundle": b"git bundle"}),
    System("haproxy", ("haproxy",), _files(haproxy__cfg=_BALANCER), {"haproxy/haproxy.cfg": b"maxconn"}),
    System(
        "bind",
        ("named-checkconf",),
        _files(named__conf='options { directory "/tmp"; };\n'),
        {"bind/named.conf": b"directory"},
    ),
    System(
        "kea",
        ("kea-dhcp4",),
        _files(kea_dhcp4__conf='{ "Dhcp4": { "subnet4": [] } } // none yet\n'),
        {"kea/kea-dhcp4.conf": b"subnet4"},
    ),
    System("nftables", ("nft", "unshare"), _nftables, {"ruleset.nft": b"table inet quay"}),
    System("systemd-units", ("systemctl",), parts={"enabled.txt": b"enabled"}),
    System("dovecot", ("doveconf",), parts={"effective.conf": b"# "}),
    System("postfix", ("postconf",), parts={"main.txt": b" = ", "services.txt": b"smtp"}),
    System("openldap", ("slapcat",), parts={"config.ldif": b"dn: cn=config"}),
    System("frr", ("vtysh", str(_FRR)), _frr, {"running.conf": b"router bgp 64512"}),
    System("etcd", ("etcd", "etcdctl"), _etcd, {"keys.json": b"YmVydGgvMw"}),
)


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenSshServer]:
    with running_server(tmp_path_factory.mktemp("sshd")) as running:
        yield running


def _described(estate: EstateFolder, server: OpenSshServer, procedure: str, values: dict[str, str]) -> None:
    told = ", ".join(f'{name} = "{value}"' for name, value in values.items())
    describe_source(estate, server, procedure, f"values = {{ {told} }}")


@pytest.mark.parametrize("system", sampled(5, SYSTEMS), ids=str)
def test_it_is_collected_whole_and_proven(
    estate: EstateFolder, server: OpenSshServer, tmp_path: Path, system: System
) -> None:
    missing = [one for one in system.programs if program(one) is None and not Path(one).is_file()]
    if missing:
        pytest.skip(f"this machine does not have {missing[0]}")
    if os.geteuid() != 0 and system.procedure in ("openldap", "dovecot", "nftables"):
        pytest.skip("its configuration is root's alone")
    with ExitStack() as stack:
        (tmp_path / "there").mkdir()
        _described(estate, server, system.procedure, system.lay_out(tmp_path / "there", stack))
        done = estate.run("collect")
        assert done.code == 0, done.said
        store = estate.store()
        found = {part.name: store.read(part) for part in store.parts("s", 1)}
        store.close()
        for name, holds in system.parts.items():
            assert holds in found[name], name
        assert not [name for name in found if name.endswith("_key")], "private keys stay where they are"
        again = estate.run("collect")
        assert "1 unchanged" in again.out, again.out + estate.run("diff", "s").out
        proof = estate.run("prove", "s")
        if "has no proof" not in proof.err:
            assert (proof.code, "proven" in proof.out) == (0, True), proof.said
    with suppress(FileNotFoundError):
        assert not list((tmp_path / "there").glob("*copy.db")), "what was made for it is gone"


@pytest.fixture(scope="module")
def database() -> Iterator[PostgresServer]:
    if program("pg_dump") is None or program("pg_restore") is None or program("psql") is None:
        pytest.skip("this machine does not have PostgreSQL's programs")
    with running_database() as one:
        yield one


def _told(url: str, folder: Path) -> str:
    """How a database is reached, with its password in a file."""
    user, _, rest = url.removeprefix("postgresql://").partition("@")
    host, _, name = rest.partition("/")
    address, _, port = host.partition(":")
    passes = folder / "pass"
    passes.write_text(f"*:*:*:*:{DATABASE_PASSWORD}\n")
    passes.chmod(0o600)
    return f"dbname={name} host={address} port={port} user={user} passfile={passes}"


def _collected(estate: EstateFolder) -> None:
    done = estate.run("collect")
    if "server version mismatch" in done.said:
        pytest.skip("its programs are older than the server")
    assert done.code == 0, done.said


def test_a_database_server(
    estate: EstateFolder, server: OpenSshServer, database: PostgresServer, tmp_path: Path
) -> None:
    _described(estate, server, "postgresql", {"database": _told(database.database(), tmp_path)})
    _collected(estate)
    assert "CREATE ROLE" in estate.run("show", "s", "globals.sql").out
    assert "1 unchanged" in estate.run("collect").out, estate.run("diff", "s").out
    assert estate.run("prove", "s").code == 0, estate.run("prove", "s").said


def test_a_database_is_proven_by_restoring_it(
    estate: EstateFolder, server: OpenSshServer, database: PostgresServer, tmp_path: Path
) -> None:
    """Into a server of its own, which is gone afterwards."""
    if program("initdb") is None or program("pg_ctl") is None:
        pytest.skip("PostgreSQL's server programs are not on the path")
    url = database.database()
    with psycopg.connect(url, password=DATABASE_PASSWORD, autocommit=True) as db:
        db.execute("CREATE TABLE berth (name text)")
        db.execute("INSERT INTO berth SELECT 'quay ' || one FROM generate_series(1, 500) AS one")
    _described(estate, server, "postgresql-restored", {"database": _told(url, tmp_path)})
    _collected(estate)
    before = {*Path("/tmp").glob("historon-scratch.*")}
    proof = estate.run("prove", "s")
    assert proof.code == 0, proof.said
    assert {*Path("/tmp").glob("historon-scratch.*")} == before, "the scratch server is gone"


_DATABASE = """
[procedures.database]
over = "ssh-exec"
tries = 1
steps = [{ keep = "pg_dump --dbname '{database}' --clean --if-exists", as = "database.sql" }]
push = [
  { put = "{place}", part = "database.sql" },
  { send = "psql --dbname '{database}' --quiet --single-transaction -v ON_ERROR_STOP=1 -f {place}" },
  { tidy = "rm -f {place}" },
]
noise = ['^\\\\(?:un)?restrict ']
"""


def test_a_real_database_is_brought_back(
    estate: EstateFolder, server: OpenSshServer, database: PostgresServer, tmp_path: Path
) -> None:
    url = database.database()
    with psycopg.connect(url, password=DATABASE_PASSWORD, autocommit=True) as db:
        db.execute("CREATE TABLE berth (name text PRIMARY KEY, depth int)")
        db.execute("INSERT INTO berth VALUES ('quay 3', 7), ('ramp', 2)")
    values = {"database": _told(url, tmp_path), "place": str(tmp_path / "back.sql")}
    _described(estate, server, "database", values)
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace("[[sources]]", f"{_DATABASE}[[sources]]"))
    _collected(estate)
    with psycopg.connect(url, password=DATABASE_PASSWORD, autocommit=True) as db:
        db.execute("DELETE FROM berth WHERE name = 'ramp'")
        db.execute("ALTER TABLE berth DROP COLUMN depth")
    shown = estate.run("push", "s@1")
    found = re.search(r"digest of this change: (\w+)", shown.out)
    assert found, shown.said
    done = estate.run("push", "s@1", "--confirm", found[1])
    assert done.code == 0, done.said
    with psycopg.connect(url, password=DATABASE_PASSWORD) as db:
        assert db.execute("SELECT * FROM berth ORDER BY name").fetchall() == [("quay 3", 7), ("ramp", 2)]
    assert not (tmp_path / "back.sql").exists()


_ROUTER = """
[estate]
name = "Test"
[credentials.c]
user = "{user}"
key = "file:keys/client"
[procedures.router]
over = "ssh-shell"
prompt = '^\\S+(\\(\\S+\\))?[#$] ?$'
steps = [
  {{ send = "{shell}" }},
  {{ send = "terminal length 0" }},
  {{ keep = "show running-config", as = "running.conf", ends_with = "end" }},
]
push = [
  {{ send = "{shell}" }},
  {{ send = "configure terminal" }},
  {{ put = "lines", part = "running.conf" }},
  {{ send = "end" }},
]
[[sources]]
name = "s"
procedure = "router"
address = "127.0.0.1"
port = {port}
credentials = "c"
host_key = "{host_key}"
"""


def test_a_real_router_is_brought_back(estate: EstateFolder, server: OpenSshServer, tmp_path: Path) -> None:
    """Lines that were calculated are typed into the shell of a router suite, and it holds what it held."""
    if program("vtysh") is None or not _FRR.is_file():
        pytest.skip("this machine does not have FRR")
    with ExitStack() as stack:
        (tmp_path / "there").mkdir()
        shell = _frr(tmp_path / "there", stack)["shell"]

        def type_in(*lines: str) -> None:
            words = [word for line in ("configure terminal", *lines) for word in ("-c", line)]
            subprocess.run([*shell.split(), *words], check=True, capture_output=True)

        type_in("router bgp 64512", "neighbor 10.20.0.2 remote-as 64513", "neighbor 10.20.0.2 description north quay")
        type_in("ip prefix-list quays seq 5 permit 10.20.0.0/16", "ip prefix-list quays seq 10 deny any")
        shutil.copy(server.client_key, estate.path / "keys" / "client")
        estate.write(_ROUTER.format(user=server.user, shell=shell, port=server.port, host_key=server.host_key))
        assert estate.run("collect").code == 0, estate.run("collect").said
        type_in(
            "router bgp 64512", "neighbor 10.20.0.2 description somebody else", "neighbor 10.20.0.9 remote-as 64514"
        )
        type_in("no ip prefix-list quays seq 10", "ip prefix-list quays seq 20 permit any")
        shown = estate.run("push", "s@1")
        found = re.search(r"digest of this change: (\w+)", shown.out)
        assert found, shown.said
        done = estate.run("push", "s@1", "--confirm", found[1])
        assert done.code == 0, done.said + estate.run("push", "s@1", "--lines").out
        assert "s now matches s@1 (noise ignored)" in done.out


_INTERFACES = "urn:ietf:params:xml:ns:yang:ietf-interfaces"
_NETCONF = """
[estate]
name = "Test"
[credentials.c]
user = "{user}"
key = "file:keys/client"
[procedures.switch]
over = "netconf"
steps = [{{ keep = "get-config running", as = "running.xml", filter = '<interfaces xmlns="{space}"/>', canonical = true }}]
push = [
  {{ put = "candidate", part = "running.xml", operation = "merge" }},
  {{ send = "confirmed-commit 120" }},
]
push_confirm = [{{ send = "discard-changes" }}, {{ send = "confirm" }}]
[procedures.by-hand]
over = "netconf"
steps = [
  {{ send = '''{edit}''' }},
  {{ send = "commit" }},
  {{ keep = "get-config running", as = "running.xml" }},
]
[[sources]]
name = "s"
procedure = "PROCEDURE"
address = "127.0.0.1"
port = {port}
credentials = "c"
host_key = "{host_key}"
"""
_EDIT = """<edit-config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><target><candidate/></target><config>
<interfaces xmlns="{space}"><interface><name>quay-3</name>
<type xmlns:i="urn:ietf:params:xml:ns:yang:iana-if-type">i:ethernetCsmacd</type>
<description>{told}</description></interface></interfaces></config></edit-config>"""


@pytest.mark.campaign
def test_a_real_netconf_server_is_brought_back(estate: EstateFolder, tmp_path: Path) -> None:
    """By a commit that is confirmed over a fresh connection, which the server must know by its token.

    This server takes nothing over from a candidate that it was asked to validate, so it is not asked.
    """
    subsystem = program("netconf-subsystem")
    if program("netconfd") is None or subsystem is None:
        pytest.skip("this machine does not have netconfd")
    own = Path(pwd.getpwuid(os.geteuid()).pw_dir) / ".yuma"  # which it makes wherever it has to work
    (tmp_path / "keys").mkdir()
    socket = tmp_path / "nc.sock"
    more = f'Subsystem netconf "{subsystem} --ncxserver-sockname=PORT@{socket}"\n'
    with ExitStack() as stack:
        if not own.exists():
            stack.callback(shutil.rmtree, own, ignore_errors=True)
        server = stack.enter_context(running_server(tmp_path / "keys", more))
        (tmp_path / "startup.xml").write_text('<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>')
        _daemon(
            stack, "netconfd", f"--ncxserver-sockname={socket}", f"--superuser={server.user}", "--target=candidate",
            f"--port={server.port}", "--module=ietf-interfaces", "--module=iana-if-type", "--access-control=disabled", f"--startup={tmp_path}/startup.xml",
        )  # fmt: skip
        wait_for(socket.exists, "the server listens")
        shutil.copy(server.client_key, estate.path / "keys" / "client")

        def write(procedure: str, told: str = "") -> None:
            edit = _EDIT.format(space=_INTERFACES, told=told).replace("\n", "")
            known = {"user": server.user, "port": server.port, "host_key": server.host_key}
            text = _NETCONF.format(space=_INTERFACES, edit=edit, **known)
            estate.write(text.replace("PROCEDURE", procedure))

        for procedure, told in (("by-hand", "ticket hall"), ("switch", ""), ("by-hand", "north door"), ("switch", "")):
            write(procedure, told)
            done = estate.run("collect")
            assert done.code == 0, done.said
        versions = estate.run("versions", "s", "--json", "--all").rows
        wanted = next(
            row["version"]
            for row in versions
            if "ticket hall" in estate.run("show", f"s@{row['version']}", "running.xml").out
            and "<interfaces" in estate.run("show", f"s@{row['version']}", "running.xml").out[:200]
        )
        shown = estate.run("push", f"s@{wanted}")
        found = re.search(r"digest of this change: (\w+)", shown.out)
        assert found, shown.said
        assert "north door" in shown.out
        done = estate.run("push", f"s@{wanted}", "--confirm", found[1])
        assert done.code == 0, done.said
        assert "noise ignored)" in done.out
