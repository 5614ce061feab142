"""The shipped proofs, each with the real program: a good version of a real layout is proven, broken ones are not."""

import shutil
import sqlite3
import subprocess
import tomllib
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import EstateFolder, sampled
from tests.peers import program

_SHIPPED = Path(__file__).parent.parent / "src" / "historon" / "procedures"
_NAMESPACES = (
    subprocess.run(
        ["unshare", "--net", "--mount", "sh", "-c", "mount --bind /tmp /tmp"], capture_output=True, check=False
    ).returncode
    == 0
)

_NGINX = {
    "nginx.conf": "user www-data;\npid /run/nginx-of-the-proof.pid;\nerror_log /var/log/nginx/error.log;\n"
    "include /etc/nginx/modules-enabled/*.conf;\nevents {}\nhttp {\n  include /etc/nginx/mime.types;\n"
    "  include /etc/nginx/conf.d/*.conf;\n  include /etc/nginx/sites-enabled/*;\n}\n",
    "mime.types": "types { text/html html; }\n",
    "conf.d/gzip.conf": "gzip on;\n",
    "sites-available/default": "server { listen 8080; include snippets/common.conf; }\n",
    "snippets/common.conf": "server_name _;\n",
}
_SSH = {
    "sshd_config": "Include /etc/ssh/sshd_config.d/*.conf\nPort 22\nUsePAM no\n",
    "sshd_config.d/hardened.conf": "PasswordAuthentication no\n",
}
_BIND = {
    "named.conf": 'include "/etc/bind/named.conf.options";\ninclude "/etc/bind/named.conf.local";\n',
    "named.conf.options": 'options { directory "/var/cache"; recursion no; };\n',
    "named.conf.local": 'zone "quay.test" { type primary; file "/etc/bind/quay.zone"; };\n',
    "quay.zone": "$TTL 1h\n@ SOA ns.quay.test. x.quay.test. 1 1h 1h 1h 1h\n@ NS ns.quay.test.\n",
}
_HAPROXY = {
    "haproxy.cfg": "global\n  maxconn 10\ndefaults\n  mode http\n  timeout connect 1s\n  timeout client 1s\n"
    "  timeout server 1s\n  errorfile 503 /etc/haproxy/errors/503.http\nfrontend f\n  bind 127.0.0.1:8081\n"
    "  default_backend b\nbackend b\n  server s 127.0.0.1:8082\n",
    "errors/503.http": "HTTP/1.0 503 Away\r\nContent-Type: text/html\r\n\r\n<p>away\r\n",
}
_KEA = {
    "kea-dhcp4.conf": '{ "Dhcp4": { "interfaces-config": { "interfaces": [] }, "lease-database": { "type": "memfile", '
    '"persist": false }, <?include "/etc/kea/subnets.json"?> } }\n',
    "subnets.json": '"subnet4": [ { "id": 1, "subnet": "10.20.0.0/24", "pools": [ { "pool": "10.20.0.10-10.20.0.20" } ] } ]\n',
}
_NFT = "table inet filter {\n  chain input {\n    type filter hook input priority 0; policy drop;\n    ct state established accept\n  }\n}\n"
_DOVECOT = "protocols = imap\nmail_location = maildir:~/Mail\nssl = no\n"

# What each proof is tried on: the program, the part, the files of a good version, and what breaks it.
_FOLDERS: dict[str, tuple[str, str, dict[str, str], dict[str, tuple[str, str]]]] = {
    "nginx": (
        "nginx",
        "nginx",
        _NGINX,
        {
            "an included file": ("conf.d/gzip.conf", "gzip on\n"),
            "a snippet that is gone": ("snippets/common.conf", ""),
        },
    ),
    "openssh": (
        "sshd",
        "ssh",
        _SSH,
        {
            "an included file": ("sshd_config.d/hardened.conf", "PasswordAuthentication perhaps\n"),
            "the file itself": ("sshd_config", "Port twenty-two\n"),
        },
    ),
    "bind": (
        "named-checkconf",
        "bind",
        _BIND,
        {
            "an included file": ("named.conf.options", "options { recursion perhaps; };\n"),
            "a file that is gone": ("named.conf.local", ""),
        },
    ),
    "haproxy": (
        "haproxy",
        "haproxy",
        _HAPROXY,
        {
            "a backend that is not there": (
                "haproxy.cfg",
                _HAPROXY["haproxy.cfg"].replace("default_backend b", "default_backend c"),
            ),
            "an error page that is gone": ("errors/503.http", ""),
        },
    ),
    "kea": (
        "kea-dhcp4",
        "kea",
        _KEA,
        {
            "an included file": ("subnets.json", '"subnet4": [ { "id": 1, "subnet": "10.20.0.0/99" } ]\n'),
            "half a file": ("kea-dhcp4.conf", _KEA["kea-dhcp4.conf"][:60]),
        },
    ),
}


def _estate(estate: EstateFolder, name: str, steps: str) -> EstateFolder:
    """A source of this machine whose procedure has the proof that is shipped under a name."""
    shipped = tomllib.loads((_SHIPPED / f"{name}.toml").read_text())
    proof = ", ".join(_toml_list(one) for one in shipped["proof"])
    places = ", ".join(f'"{place}" = "{part}"' for place, part in shipped.get("proof_at", {}).items())
    at = f"proof_at = {{ {places} }}\n" if places else ""
    estate.write(
        f'[estate]\nname = "Test"\n[procedures.p]\nover = "local"\nstep_deadline = "2m"\nsteps = [{steps}]\n'
        f'proof = [{proof}]\n{at}[[sources]]\nname = "s"\nprocedure = "p"\n'
    )
    return estate


def _toml_list(words: list[str]) -> str:
    return "[" + ", ".join(f"'''{word}'''" for word in words) + "]"


def _lay(folder: Path, files: dict[str, str]) -> None:
    for name, text in files.items():
        file = folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)


def _verdict(estate: EstateFolder) -> str:
    assert estate.run("collect").code in (0, 3)
    number = len(estate.run("versions", "s", "--all", "--json").rows)
    rows = estate.run("prove", f"s@{number}", "--json").rows
    assert rows, estate.run("prove", f"s@{number}").said
    return f"{rows[0]['verdict']} {rows[0]['why']}"


@pytest.mark.skipif(not _NAMESPACES, reason="this system allows no mount namespace")
@pytest.mark.parametrize("name", sampled(2, _FOLDERS))
def test_a_folder_is_proven_by_what_was_collected(estate: EstateFolder, name: str) -> None:
    needed, part, files, broken = _FOLDERS[name]
    if program(needed) is None:
        pytest.skip(f"this machine does not have {needed}")
    folder = estate.path / "there"
    _lay(folder, files)
    if name == "nginx":
        (folder / "sites-enabled").mkdir()
        (folder / "sites-enabled" / "default").symlink_to("/etc/nginx/sites-available/default")
        (folder / "modules-enabled").mkdir()
    _estate(estate, name, f'{{ pull = "there", as = "{part}" }}')
    assert _verdict(estate) == "proven "
    for what, (file, text) in broken.items():
        shutil.rmtree(folder)
        _lay(folder, {**files, file: text})
        if name == "nginx":
            (folder / "sites-enabled").mkdir()
            (folder / "sites-enabled" / "default").symlink_to("/etc/nginx/sites-available/default")
        if not text:
            (folder / file).unlink()
        assert _verdict(estate).startswith("failed "), what


@pytest.mark.skipif(not _NAMESPACES, reason="this system allows no mount namespace")
@pytest.mark.skipif(program("nginx") is None, reason="this machine does not have nginx")
def test_the_files_of_the_machine_itself_have_no_say(estate: EstateFolder) -> None:
    """The distribution's own layout: pristine it is proven, also with modules; broken it is not."""
    shutil.copytree("/etc/nginx", estate.path / "there", symlinks=True)
    _estate(estate, "nginx", '{ pull = "there", as = "nginx" }')
    assert _verdict(estate) == "proven "
    before = {one: one.stat().st_mtime_ns for one in Path("/etc/nginx").rglob("*") if one.is_file()}
    (estate.path / "there" / "conf.d").mkdir(exist_ok=True)
    (estate.path / "there" / "conf.d" / "x.conf").write_text("no_such_directive on;\n")
    told = _verdict(estate)
    assert told.startswith("failed nginx ended with 1: "), told
    assert 'unknown directive "no_such_directive"' in told
    assert "/etc/nginx/conf.d/x.conf:1" in told
    assert {one: one.stat().st_mtime_ns for one in Path("/etc/nginx").rglob("*") if one.is_file()} == before


_TEXTS: dict[str, tuple[str, str, str, list[str]]] = {
    "nftables": ("nft", "ruleset.nft", _NFT, [_NFT.replace("policy drop", "policy perhaps"), _NFT[:60]]),
    "dovecot": ("doveconf", "effective.conf", _DOVECOT, ["protocols = imap\nno_such_setting = 1\n", "mail_location\n"]),
}


@pytest.mark.parametrize("name", _TEXTS)
def test_a_text_is_proven(estate: EstateFolder, name: str) -> None:
    needed, part, good, broken = _TEXTS[name]
    if program(needed) is None:
        pytest.skip(f"this machine does not have {needed}")
    _estate(estate, name, f'{{ pull = "{part}" }}')
    (estate.path / part).write_text(good)
    assert _verdict(estate) == "proven "
    for text in broken:
        (estate.path / part).write_text(text)
        assert _verdict(estate).startswith("failed "), text


def _database(file: Path) -> None:
    with closing(sqlite3.connect(file)) as db:
        db.execute("CREATE TABLE t (a TEXT)")
        db.execute("CREATE INDEX i ON t (a)")
        db.executemany("INSERT INTO t VALUES (?)", [(f"row {number}" * 20,) for number in range(500)])
        db.commit()


def _bundle(file: Path) -> None:
    place = file.parent / "repository"
    run: Callable[..., object] = lambda *words: subprocess.run(  # noqa: E731
        ["git", "-c", "user.name=x", "-c", "user.email=x@x", *words], cwd=place, check=True, capture_output=True
    )
    place.mkdir()
    run("init", "--quiet")
    for number in range(5):
        (place / "a").write_text(f"text {number}\n" * 100)
        run("add", "a")
        run("commit", "--quiet", "-m", f"{number}")
    run("bundle", "create", "--quiet", str(file), "--all")


_BINARIES: dict[str, tuple[str, str, Callable[[Path], None]]] = {
    "sqlite": ("sqlite3", "database.sqlite", _database),
    "git-repository": ("git", "repository.bundle", _bundle),
}


@pytest.mark.parametrize("name", _BINARIES)
def test_a_file_is_proven_to_its_end(estate: EstateFolder, name: str) -> None:
    needed, part, make = _BINARIES[name]
    if shutil.which(needed) is None:
        pytest.skip(f"this machine does not have {needed}")
    _estate(estate, name, f'{{ pull = "{part}", is = "anything" }}')
    file = estate.path / part
    make(file)
    assert _verdict(estate) == "proven "
    whole = file.read_bytes()
    middle = len(whole) // 2
    for broken in (whole[: middle + 100], whole[:middle] + bytes(300) + whole[middle + 300 :]):
        file.write_bytes(broken)
        assert _verdict(estate).startswith("failed ")


def test_every_shipped_proof_is_tried_here_or_with_its_server() -> None:
    with_proof = {one.stem for one in _SHIPPED.glob("*.toml") if "proof = [" in one.read_text()}
    elsewhere = {"postgresql", "postgresql-restored"}  # tests/test_open_systems.py
    assert with_proof - elsewhere == {*_FOLDERS, *_TEXTS, *_BINARIES}
