"""Rounds: against the stock SSH client on a real OpenSSH server, many slow devices at once, and one large archive."""

import asyncio
import multiprocessing
import os
import pwd
import resource
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from multiprocessing.connection import Connection
from pathlib import Path

from bench.history import history
from historon.store import FolderStore

HISTORON = Path(sys.executable).with_name("historon")
SOURCES, CLIENTS = 200, 32
SLOW, SLOW_S, SLOW_AT_ONCE = 1000, 2.0, 200
ARCHIVE = 500_000_000


def main() -> None:
    """Print rates, costs and peaks, each beside what it is compared with."""
    with tempfile.TemporaryDirectory() as name:
        if shutil.which("sshd", path="/usr/sbin:/usr/bin"):
            _against_stock_client(Path(name) / "ssh")
        _many_slow(Path(name) / "slow")
        _archive(Path(name) / "archive")


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _measured(command: list[str], folder: Path) -> tuple[float, float, int]:
    """Wall clock, CPU of the process and its children in seconds, and peak memory in bytes."""
    began = time.perf_counter()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} ended with exit code {process.returncode}")
    return time.perf_counter() - began, usage.ru_utime + usage.ru_stime, usage.ru_maxrss * 1024


def _estate(folder: Path, text: str) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "historon.toml").write_text(text)
    FolderStore.create(folder / "store").close()


def _against_stock_client(folder: Path) -> None:
    folder.mkdir()
    for key in ("host", "client"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / key], check=True)
    (folder / "authorized").write_text((folder / "client.pub").read_text())
    exports = next(iter(history(SOURCES, 1)))
    for name, content in exports.items():
        (folder / f"{name}.cfg").write_bytes(content)
    names, port = list(exports), _free_port()
    (folder / "config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/authorized\n"
        f"PidFile {folder}/pid\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nMaxStartups 500\nMaxSessions 500\n"
        "SetEnv SHLVL=5\n"  # a nested shell reads no start-up files, which are not what is measured
    )
    Path("/run/sshd").mkdir(exist_ok=True)
    sshd = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", folder / "config"], stderr=subprocess.DEVNULL)
    user = pwd.getpwuid(os.geteuid()).pw_name
    host = (folder / "host.pub").read_text().split()
    (folder / "known").write_text(f"[127.0.0.1]:{port} {host[0]} {host[1]}\n")
    for _ in range(1000):
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
            break
        except OSError:
            time.sleep(0.01)
    sources = "".join(
        f'[[sources]]\nname = "{name}"\naddress = "127.0.0.1"\nport = {port}\nprocedure = "p"\ncredentials = "c"\n'
        f'values = {{ file = "{folder}/{name}.cfg" }}\n'
        for name in names
    )
    estate = folder / "estate"
    _estate(
        estate,
        f'[estate]\nname = "B"\nat_once = {CLIENTS}\nknown_hosts = "{folder}/known"\n[credentials.c]\nuser = "{user}"\n'
        f'key = "file:{folder}/client"\n[procedures.p]\nover = "ssh-exec"\nvalues = {{ file = "x" }}\n'
        f'steps = [{{ keep = "cat {{file}}", as = "active.cfg" }}]\n{sources}',
    )
    (folder / "list").write_text("".join(f"{folder}/{name}.cfg\n" for name in names))
    options = f"-p {port} -i {folder}/client -o UserKnownHostsFile={folder}/known -o BatchMode=yes"
    stock = f"xargs -a {folder}/list -P{CLIENTS} -I% ssh {options} {user}@127.0.0.1 cat % > /dev/null"
    figures: dict[str, list[tuple[float, float, int]]] = {"stock": [], "ours": []}
    try:
        for _ in range(3):
            figures["stock"].append(_measured(["sh", "-c", stock], folder))
            figures["ours"].append(_measured([str(HISTORON), "collect"], estate))
    finally:
        sshd.terminate()
        sshd.wait()
    (stock_s, stock_cpu, _), (our_s, our_cpu, peak) = min(figures["stock"]), min(figures["ours"])
    floor = _idle_cpu(folder)
    rates = f"xargs -P{CLIENTS} ssh {SOURCES / stock_s:.1f} a second, historon {SOURCES / our_s:.1f}"
    each = [f"{seconds / SOURCES * 1000:.1f} ms" for seconds in (stock_cpu, our_cpu, our_cpu - floor)]
    print(
        f"ssh round     {SOURCES} sources: {rates}, {stock_s / our_s:.1f} times as many; client CPU a source {each[0]} "
        f"and {each[1]} ({each[2]} without starting up); peak {peak / 1e6:.0f} MB"
    )


def _idle_cpu(folder: Path) -> float:
    """What starting and ending costs: a round of one local source with everything for SSH imported."""
    code = (
        "import historon.cli.main, historon.cli.commands.collect, historon.collect.transports.ssh_exec, historon.store"
    )
    return min(_measured([sys.executable, "-c", code], folder)[1] for _ in range(3))


def _many_slow(folder: Path) -> None:
    """Devices that take their time, in a process of their own; as plain TCP would not be SSH, they are stand-ins."""
    ours, theirs = multiprocessing.Pipe()
    process = multiprocessing.Process(target=_serve_slowly, args=[theirs], daemon=True)
    process.start()
    port, fingerprint = ours.recv()
    sources = "".join(
        f'[[sources]]\nname = "s{n}"\naddress = "127.0.0.1"\nport = {port}\nprocedure = "p"\ncredentials = "c"\n'
        f'host_key = "{fingerprint}"\n'
        for n in range(SLOW)
    )
    _estate(
        folder,
        f'[estate]\nname = "B"\nat_once = {SLOW_AT_ONCE}\n[credentials.c]\nuser = "u"\npassword = "env:PW"\n'
        f'[procedures.p]\nover = "ssh-exec"\nsteps = [{{ keep = "show", as = "active.cfg" }}]\n{sources}',
    )
    os.environ["PW"] = "p"
    wall, cpu, peak = _measured([str(HISTORON), "collect"], folder)
    ours.send("stop")
    served = ours.recv()
    process.join()
    ideal = SLOW / SLOW_AT_ONCE * SLOW_S
    floor = max(cpu, served)  # two processes on two cores: the busier one is the floor
    print(
        f"slow devices  {SLOW} that take {SLOW_S:.0f} s, {SLOW_AT_ONCE} at once: {wall:.1f} s; ideal {ideal:.0f} s + "
        f"{floor:.1f} s of CPU (client {cpu:.1f}, devices {served:.1f}): {wall / (ideal + floor):.2f} times; "
        f"peak {peak / 1e6:.0f} MB"
    )


def _serve_slowly(pipe: Connection) -> None:
    import asyncssh

    class Guard(asyncssh.SSHServer):
        def password_auth_supported(self) -> bool:
            return True

        def validate_password(self, username: str, password: str) -> bool:
            return True

    async def answer(process: "asyncssh.SSHServerProcess[str]") -> None:
        await asyncio.sleep(SLOW_S)
        process.stdout.write("hostname slow\nend\n")
        process.exit(0)

    async def serve() -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")
        server = await asyncssh.create_server(
            Guard, "127.0.0.1", 0, server_host_keys=[key], process_factory=answer, backlog=1000
        )
        pipe.send((server.get_port(), key.get_fingerprint()))
        await asyncio.to_thread(pipe.recv)
        usage = resource.getrusage(resource.RUSAGE_SELF)
        pipe.send(usage.ru_utime + usage.ru_stime)
        server.close()

    asyncio.run(serve())


def _archive(folder: Path) -> None:
    folder.mkdir()
    with (folder / "archive.img").open("wb") as out:
        for _ in range(ARCHIVE // 10**6):
            out.write(os.urandom(10**6))
    _estate(
        folder,
        '[estate]\nname = "B"\n[procedures.p]\nover = "local"\nsteps = [{ pull = "archive.img", max_size = "1GB" }]\n'
        '[[sources]]\nname = "a"\nprocedure = "p"\n',
    )
    wall, cpu, peak = _measured([str(HISTORON), "collect"], folder)
    size = f"{ARCHIVE / 1e6:.0f} MB that do not compress"
    print(f"archive       {size}: {wall:.1f} s, CPU {cpu:.1f} s, peak {peak / 1e6:.0f} MB")


if __name__ == "__main__":
    main()
