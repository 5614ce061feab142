"""Copies far away: a bucket of objects that enforces signatures and conditions, and folders over a real SFTP server."""

import hashlib
import json
import os
import shutil
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

import historon
from historon.copies import copy_at_hand
from historon.copies.places import Pace
from historon.estate import read_estate
from historon.standins.certificates import SelfSigned
from historon.standins.lighter import Lighter, LighterFault
from historon.store import FolderStore, Store
from tests.conftest import FILES_ESTATE, EstateFolder, prune_to, until_its_end
from tests.cutting import cut_line
from tests.openssh import OpenSshServer, running_server
from tests.peers import needs
from tests.store_contract import whole_store

SFTP = pytest.param("sftp", marks=needs("an OpenSSH server"))
PLAIN = pytest.param("plain", marks=needs("an OpenSSH server"))
SFTP_TOO = pytest.param("sftp", marks=[needs("an OpenSSH server"), pytest.mark.campaign])  # as a bucket does
KEY = {"BUCKET_KEY": "bonded-warehouse-7"}


@pytest.fixture(scope="module")
def ssh_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenSshServer]:
    with running_server(tmp_path_factory.mktemp("sshd")) as running:
        yield running


@pytest.fixture
def lighter(tmp_path: Path) -> Iterator[Lighter]:
    server = Lighter(tmp_path / "lighter")
    server.in_clear = True  # on loopback; TLS is tried below
    server.start()
    yield server
    server.stop()


class Far:
    """An estate with a copy far away; `port` is that of the server, or of a line to it."""

    def __init__(self, estate: EstateFolder, kind: str, port: int, text: str, there: Path | Lighter) -> None:
        self.estate, self.kind, self.port, self.text, self.there = estate, kind, port, text, there
        self.write()

    def write(self, **replaced: str) -> None:
        text = self.text.replace("PORT", str(self.port))
        for old, new in replaced.items():
            text = text.replace(old, new)
        self.estate.write(FILES_ESTATE + text)

    def update(self, code: int = 0) -> str:
        result = self.estate.run("copies", "--update", **KEY)
        assert result.code == code, result.said
        assert "Traceback" not in result.said
        return result.said

    def collect(self, text: str) -> None:
        (self.estate.path / "data" / "a.conf").write_text(text)
        assert self.estate.run("collect", **KEY).code == 0

    def back(self) -> object:
        """All that the copy holds, read from it."""
        os.environ.update(KEY)
        described = read_estate(self.estate.path / "historon.toml")
        with copy_at_hand("away", described) as held:
            store = until_its_end(FolderStore(held.folder))
            try:
                assert store.check() == []
                return _known(store)
            finally:
                store.close()

    def held(self) -> object:
        store = self.estate.store()
        try:
            return _known(store)
        finally:
            store.close()


def _known(store: Store) -> object:
    """All but when rounds were: a copy of files knows nothing of them."""
    return whole_store(store)


@pytest.fixture
def far(request: pytest.FixtureRequest, files_estate: EstateFolder, tmp_path: Path) -> Far:
    kind: str = request.param
    if kind == "bucket":
        server: Lighter = request.getfixturevalue("lighter")
        text = f"""
[credentials.copier]
user = "copier"
password = "env:BUCKET_KEY"
[copies.away]
kind = "bucket"
url = "http://127.0.0.1:PORT/{server.bucket}"
credentials = "copier"
"""
        return Far(files_estate, kind, server.port, text, server)
    ssh: OpenSshServer = request.getfixturevalue("ssh_server")
    shutil.copy(ssh.client_key, files_estate.path / "keys" / "client")
    there = tmp_path / "saltgate"
    text = f"""
[credentials.copier]
user = "{ssh.user}"
key = "file:keys/client"
[copies.away]
kind = "{"store" if kind == "sftp" else "folder"}"
server = "127.0.0.1"
port = PORT
path = "{there}"
credentials = "copier"
host_key = "{ssh.host_key}"
"""
    return Far(files_estate, kind, ssh.port, text, there)


def _three_versions(far: Far) -> None:
    (far.estate.path / "data" / "same.conf").write_text("always\n")
    for text in ("one\n", "two\n", "three\n"):
        far.collect(text)


def _files(folder: Path) -> dict[str, bytes]:
    return {
        str(file.relative_to(folder)): file.read_bytes()
        for file in folder.rglob("*")
        if file.is_file() and not file.name.startswith(".")
    }


def _objects(far: Far) -> dict[str, bytes]:
    return dict(far.there.objects) if isinstance(far.there, Lighter) else _files(far.there)


# ---- what is there ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("far", ["bucket", SFTP], indirect=True)
def test_a_copy_far_away_is_the_whole_store(far: Far) -> None:
    _three_versions(far)
    assert "away: up to date: 3 versions of 1 source" in far.update()
    assert far.back() == far.held()
    assert "away: 3 versions of 1 source read: all intact" in far.estate.run("copies", "--verify", **KEY).out
    assert "up to date" in far.estate.run("copies", **KEY).out
    for name, content in _objects(far).items():
        digest = name.rpartition("/")[2]
        assert b"always" not in content or len(digest) == 64  # contents are under their digests alone


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_only_what_is_missing_is_written_and_what_was_pruned_goes(far: Far) -> None:
    _three_versions(far)
    far.update()
    before = _objects(far)
    far.collect("four\n")
    assert "behind" in far.estate.run("copies", **KEY).out
    far.update()
    contents = {name for name in _objects(far) if "contents/" in name}
    assert len(contents - set(before)) == 2, "the text and the tree's metadata"
    prune_to(far.estate, len(far.estate.store().versions("files")) - 2)
    far.update()
    assert far.back() == far.held()
    assert len({name for name in _objects(far) if "contents/" in name}) < len(contents)
    assert len([name for name in _objects(far) if "ledgers/" in name]) == 1


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_a_retention_of_its_own(far: Far) -> None:
    _three_versions(far)
    far.text += 'retention = "two"\n[retention.two]\nat_least = 1\nat_most = 2\n'
    far.write()
    assert "up to date: 2 versions of 1 source" in far.update()
    far.collect("four\n")
    far.update()
    os.environ.update(KEY)
    with copy_at_hand("away", read_estate(far.estate.path / "historon.toml")) as held:
        store = until_its_end(FolderStore(held.folder))
        assert [one.number for one in store.versions("files")] == [3, 4]
        assert [one.number for one in store.removed("files")] == [1, 2]
        assert [store.read(part) for part in store.parts("files", 4) if part.name.endswith("a.conf")] == [b"four\n"]
        store.close()
    assert len(far.estate.store().versions("files")) == 4


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_large_contents_come_back(far: Far) -> None:
    big = os.urandom(17 * 2**20)
    (far.estate.path / "data" / "big.bin").write_bytes(big)
    far.collect("one\n")
    far.update()
    os.environ.update(KEY)
    with copy_at_hand("away", read_estate(far.estate.path / "historon.toml")) as held:
        store = until_its_end(FolderStore(held.folder))
        (part,) = (one for one in store.parts("files", 1) if one.name.endswith("big.bin"))
        assert b"".join(store.pieces(part)) == big
        store.close()


@pytest.mark.parametrize("far", [PLAIN], indirect=True)
def test_plain_files_over_sftp(far: Far) -> None:
    _three_versions(far)
    assert "up to date: 3 versions of 1 source" in far.update()
    assert isinstance(far.there, Path)
    lines = (far.there / "SHA256SUMS").read_text().splitlines()
    assert len(lines) == 9
    for line in lines:
        digest, name = line.split("  ", 1)
        assert hashlib.sha256((far.there / name).read_bytes()).hexdigest() == digest
    foreign = far.there / "files" / "mine.txt"
    foreign.write_text("not Historon's")
    (far.estate.path / "data" / "same.conf").unlink()
    far.collect("four\n")
    far.update()
    assert foreign.read_text() == "not Historon's"
    (victim,) = list(far.there.glob("files/*/data/a.conf"))[:1]
    victim.write_text("changed\n")
    result = far.estate.run("copies", "--verify", "all", **KEY)
    assert result.code == 5
    assert "does not match its SHA-256" in result.err


# ---- what goes wrong -------------------------------------------------------------------------------------------------


@pytest.mark.campaign
@pytest.mark.parametrize("far", ["bucket"], indirect=True)
@pytest.mark.parametrize("fault", [LighterFault.FULL, LighterFault.DOWN])
def test_an_update_that_breaks_off_at_any_request_is_gone_on_with(far: Far, fault: LighterFault) -> None:
    assert isinstance(far.there, Lighter)
    _three_versions(far)
    far.update()
    whole, held_before = dict(far.there.objects), far.back()
    far.collect("four\n")
    requests = _requests_of(far)
    for tenth in range(0, 10, 3 if fault is LighterFault.DOWN else 1):  # what is down is tried again, which takes long
        far.there.objects = dict(whole)
        far.there.break_down(fault, requests * tenth // 10)
        said = (
            far.update(code=5)
            if fault is LighterFault.FULL and tenth < 5
            else far.estate.run("copies", "--update", **KEY).err
        )
        assert "Traceback" not in said
        far.there.break_down(None)
        assert far.back() in (held_before, far.held()), "the one before, or the new one, whole"
        far.update()
        assert far.back() == far.held()


def _requests_of(far: Far) -> int:
    """How many requests an update takes."""
    assert isinstance(far.there, Lighter)
    objects, before = dict(far.there.objects), far.there.requests
    far.update()
    far.there.objects = objects
    return far.there.requests - before


@pytest.mark.parametrize("far", [SFTP, PLAIN], indirect=True)
def test_a_line_that_is_cut_is_gone_on_with(far: Far) -> None:
    (far.estate.path / "data" / "noise.bin").write_bytes(os.urandom(200_000))
    _three_versions(far)
    server_port = far.port
    with cut_line(server_port) as line:
        far.port = line.port
        far.write()
        far.update()
        whole = line.carried
        for tenth in (1, 4, 6, 9):
            assert isinstance(far.there, Path)
            shutil.rmtree(far.there)
            line.left = whole * tenth // 10
            said = far.update(code=5)
            assert "cannot" in said
            line.left = None
            far.update()
            assert "all intact" in far.estate.run("copies", "--verify", "all", **KEY).out


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_damage_at_the_far_end_is_found(far: Far) -> None:
    _three_versions(far)
    far.update()
    name = next(name for name in sorted(_objects(far)) if "contents/" in name)
    if isinstance(far.there, Lighter):
        far.there.objects[name] = far.there.objects[name][:-2]
    else:
        file = far.there / name
        file.write_bytes(file.read_bytes()[:-2])
    result = far.estate.run("copies", "--verify", "all", **KEY)
    assert result.code == 5
    assert "is damaged" in result.err
    assert "files@" in result.err
    assert "DAMAGED" in result.err


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_a_sample_never_speaks_for_the_rest(far: Far) -> None:
    _three_versions(far)
    far.update()
    os.environ.update(KEY)
    with historon.open(far.estate.path) as opened:
        found = opened.copy("away").verify(sample=2)
    assert (found.contents, found.sample_of) == (2, 7)


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_the_copy_of_another_store_is_never_touched(far: Far, tmp_path: Path) -> None:
    _three_versions(far)
    far.update()
    before = _objects(far)
    shutil.rmtree(far.estate.path / "store")
    assert far.estate.run("new", ".", "--store-only").code == 0
    far.collect("another\n")
    assert "holds the copy of another store" in far.update(code=5)
    assert {name: content for name, content in _objects(far).items() if name in before} == before


@pytest.mark.parametrize("far", ["bucket", SFTP_TOO], indirect=True)
def test_a_store_that_went_back_in_time_never_takes_the_place_of_its_copy(far: Far, tmp_path: Path) -> None:
    _three_versions(far)
    shutil.copytree(far.estate.path / "store", tmp_path / "before")
    far.collect("four\n")
    far.update()
    newest = far.back()
    shutil.rmtree(far.estate.path / "store")
    shutil.copytree(tmp_path / "before", far.estate.path / "store")
    assert "has files@4, which the store lacks" in far.update(code=5)
    assert far.back() == newest


@pytest.mark.parametrize("far", ["bucket"], indirect=True)
def test_two_writers_cannot_harm_each_other(far: Far) -> None:
    """Somebody else replaced the head between our reading it and our writing it."""
    assert isinstance(far.there, Lighter)
    _three_versions(far)
    far.update()
    far.collect("four\n")
    server, answer = far.there, far.there.answer

    def meddling(request):  # type: ignore[no-untyped-def]
        if request.method == "PUT" and request.path.endswith("head.json"):
            head = json.loads(server.objects["historon/head.json"])
            server.objects["historon/head.json"] = json.dumps({**head, "changes": 99}).encode()
        return answer(request)

    server.answer = meddling  # type: ignore[method-assign]
    assert "another Historon updated this copy at the same time" in far.update(code=5)
    server.answer = answer  # type: ignore[method-assign]
    far.update()
    assert far.back() == far.held()


@pytest.mark.parametrize("far", ["bucket"], indirect=True)
def test_a_lock_in_the_bucket_is_respected(far: Far) -> None:
    assert isinstance(far.there, Lighter)
    _three_versions(far)
    far.update()
    far.there.locked = {name for name in far.there.objects if not name.endswith("head.json")}
    locked = {name: far.there.objects[name] for name in far.there.locked}
    prune_to(far.estate, len(far.estate.store().versions("files")) - 2)
    far.collect("four\n")
    assert "unused objects could not be removed" in far.update()
    assert {name: far.there.objects[name] for name in locked} == locked
    assert far.back() == far.held()


@pytest.mark.parametrize("far", [SFTP], indirect=True)
def test_a_lock_of_another_update_is_told_and_one_that_died_is_taken_over(far: Far) -> None:
    _three_versions(far)
    far.update()
    far.collect("four\n")
    assert isinstance(far.there, Path)
    lock = far.there / "head.lock"
    lock.write_text("elsewhere 1\n")
    assert "another Historon is updating this copy" in far.update(code=5)
    os.utime(lock, (1, 1))
    far.update()
    assert not lock.exists()
    assert far.back() == far.held()


@pytest.mark.parametrize("far", ["bucket"], indirect=True)
@pytest.mark.parametrize(
    ("replaced", "said"),
    [
        ({"historon-copies": "other"}, "cannot"),
        ({'user = "copier"': 'user = "nobody"'}, "check the credentials"),
        ({"env:BUCKET_KEY": "env:HOME"}, "check the credentials"),
        ({"env:BUCKET_KEY": "env:NOT_SET"}, "NOT_SET"),
    ],
)
def test_a_bucket_that_does_not_let_us_in(far: Far, replaced: dict[str, str], said: str) -> None:
    _three_versions(far)
    far.write(**replaced)
    assert said in far.update(code=5)


@pytest.mark.parametrize("far", [SFTP], indirect=True)
@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("SHA256:", "SHA256:" + "A" * 3, "its host key is SHA256:"),
        ('user = "', 'user = "nobody-', "refused the log-in"),
        ("saltgate", "/proc/nowhere", "cannot"),
    ],
)
def test_a_server_that_does_not_let_us_in(far: Far, old: str, new: str, said: str) -> None:
    _three_versions(far)
    text = (far.estate.path / "historon.toml").read_text()
    if old == "saltgate":
        text = text.replace(str(far.there), new)
    elif old == "SHA256:":
        text = text.replace(text.partition('host_key = "')[2].partition('"')[0], "SHA256:" + "A" * 43)
    else:
        text = text.replace(old, new)
    far.estate.write(text)
    assert said in far.update(code=5)


def test_wrong_settings_of_far_copies(files_estate: EstateFolder) -> None:
    for text, said in (
        ('kind = "bucket"\nurl = "http://objects.example/b"\ncredentials = "c"', "in the clear"),
        ('kind = "bucket"\nurl = "https://objects.example"\ncredentials = "c"', "url is a server and a bucket"),
        (
            'kind = "bucket"\nurl = "https://u:p@objects.example/b"\ncredentials = "c"',
            "name the account by credentials",
        ),
        ('kind = "bucket"\nurl = "https://objects.example/b"', '"credentials" is missing'),
        ('kind = "bucket"\nurl = "https://objects.example/b"\ncredentials = "x"', 'there is no "x"'),
        ('kind = "store"\npath = "p"\nserver = "s"', "add credentials and host_key"),
        ('kind = "folder"\npath = "p"\nbandwidth = "1MB"', "has no effect without a server"),
    ):
        files_estate.write(FILES_ESTATE + f'[credentials.c]\nuser = "u"\npassword = "env:X"\n[copies.away]\n{text}\n')
        result = files_estate.run("copies")
        assert result.code == 4, (text, result.said)
        assert said in " ".join(result.said.split()), text


def _vouched(folder: Path) -> tuple[Path, SelfSigned]:
    """An authority's certificate, and that of a server that it vouches for."""
    keys = [ec.generate_private_key(ec.SECP256R1()) for _ in range(2)]
    names = [x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]) for name in ("authority", "localhost")]
    files = []
    for number, key in enumerate(keys):
        made = (
            x509.CertificateBuilder()
            .subject_name(names[number])
            .issuer_name(names[0])
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(datetime.now(UTC) - timedelta(days=1))
            .not_valid_after(datetime.now(UTC) + timedelta(days=30))
            .add_extension(x509.BasicConstraints(ca=number == 0, path_length=None), critical=True)
            .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False)
            .sign(keys[0], hashes.SHA256())
        )
        files.append(folder / f"{number}.crt")
        files[-1].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    form = (serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    (folder / "server.key").write_bytes(keys[1].private_bytes(*form))
    return files[0], SelfSigned(files[1], folder / "server.key", "")


def test_over_tls_only_a_server_that_is_vouched_for(files_estate: EstateFolder, tmp_path: Path) -> None:
    server = Lighter(tmp_path / "lighter")
    authority, server.tls = _vouched(tmp_path)
    server.start()
    try:
        text = (
            f'[credentials.copier]\nuser = "copier"\npassword = "env:BUCKET_KEY"\n[copies.away]\nkind = "bucket"\n'
            f'url = "{server.url}"\ncredentials = "copier"\n'
        )
        files_estate.write(FILES_ESTATE + text)
        assert files_estate.run("collect").code == 0
        refused = files_estate.run("copies", "--update", **KEY)
        assert refused.code == 5
        assert "its certificate is not trusted" in refused.err
        assert server.objects == {}
        files_estate.write(FILES_ESTATE + text + f'authority = "{authority}"\n')
        assert files_estate.run("copies", "--update", **KEY).code == 0
        assert server.objects
    finally:
        server.stop()


def test_what_the_other_side_says_is_said(files_estate: EstateFolder) -> None:
    text = (
        '[credentials.c]\nuser = "u"\npassword = "env:BUCKET_KEY"\n[copies.away]\nkind = "bucket"\ncredentials = "c"\n'
    )
    files_estate.write(FILES_ESTATE + text + 'url = "http://127.0.0.1:9/b"\n')
    assert files_estate.run("collect").code == 0
    assert "cannot read head.json: Connection refused" in files_estate.run("copies", "--update", **KEY).err


def test_a_pace_lets_no_more_through_than_it_may() -> None:
    pace = Pace(1_000)
    assert 8 < pace.due_in(10_000) <= 10
    assert 18 < pace.due_in(10_000) <= 20
    assert Pace(None).due_in(10**12) == 0


# ---- the day the machine is lost -------------------------------------------------------------------------------------


@pytest.mark.parametrize("far", ["bucket", SFTP, PLAIN], indirect=True)
def test_a_lost_machine_is_made_anew_from_far_away(far: Far, tmp_path: Path) -> None:
    _three_versions(far)
    far.update()
    held = far.held()
    place = tmp_path / "place"
    (place / "keys").mkdir(parents=True)
    if (far.estate.path / "keys" / "client").exists():
        shutil.copy(far.estate.path / "keys" / "client", place / "keys" / "client")
    text = far.text.replace("PORT", str(far.port))
    (place / "rescue.toml").write_text(f'[estate]\nname = "rescue"\n{text}')
    shutil.move(far.estate.path, tmp_path / "lost")
    new = EstateFolder(tmp_path / "new")
    new.path.mkdir()
    result = new.run("new", ".", "--from-copy", place / "rescue.toml", **KEY)
    if far.kind == "plain":
        assert result.code == 2
        assert "has no estate file" in result.err
        new.write(FILES_ESTATE)
        result = new.run("new", ".", "--store-only", "--from-copy", place / "rescue.toml", **KEY)
        assert "new store with 3 versions" in result.out, result.said
    else:
        assert result.code == 0, result.said
        assert "3 versions of 1 sources" in result.out
        assert _known_of(new) == held
    (new.path / "data").mkdir()
    (new.path / "data" / "a.conf").write_text("three\n")
    (new.path / "data" / "same.conf").write_text("always\n")
    assert (
        "unchanged" in new.run("collect", **KEY).said or new.run("show", "files", "data/a.conf", **KEY).out == "three\n"
    )
    assert new.run("verify", **KEY).code == 0


def _known_of(estate: EstateFolder) -> object:
    store = estate.store()
    try:
        return _known(store)
    finally:
        store.close()
