"""`python -m torture.load`: the service among sources that do what they can to be in the way of the others.

Honest sources of several transports stand in one timetable, each due every minute, with hostile ones: such as never
answer, answer for ever, drip, nest, hang on a FIFO, or send each of the hostile exports in turn. Measured from outside:
how late the honest ones were begun and done, the memory and the open files of the service, its threads, how long
/health took, and how long it took to end.
"""

import itertools
import json
import os
import re
import signal
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.message import EmailMessage
from functools import partial
from itertools import count
from pathlib import Path

import asyncssh
import click

from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault
from historon.standins.certificates import SelfSigned
from historon.standins.thole import Thole, TholeFault
from historon.store import FolderStore
from torture.hostile import hostile_exports
from torture.serving import ContentServer

__all__ = ["Load", "Seen"]

PROGRAM = Path(sys.executable).with_name("historon")
LATE = timedelta(seconds=5)
_LOOKS = (
    ["status"],
    ["changes", "--since", "5m"],
    ["rounds"],
    ["versions", "honest-ssh-0"],
    ["find", "berth"],
    ["trace", "honest-file-0", "turn"],
    ["diff", "honest-tree-0"],
    ["verify", "honest-file-1"],
)
_HONEST = ("ssh", "netconf", "https", "file", "tree", "command")
_HEAD = """
[estate]
name = "Load"
at_once = {at_once}
[timetables.minutely]
every = "1m"
[defaults]
timetable = "minutely"
[credentials.reader]
user = "config-reader"
password = "file:password"
[credentials.slow]
user = "config-reader"
password = "command:sleep 25"
[channels.record]
kind = "file"
path = "told.jsonl"
[procedures.files]
over = "local"
steps = [{ pull = "{path}", as = "{part}" }]
values = { part = "export" }
noise = ['uptime (\\d+)', 'path:^x / ', 'xpath://hits', 'json:/rules/*/hits']
[procedures.command]
over = "local"
steps = [{ keep = ["{program}"], as = "export.txt" }]
step_deadline = "20s"
[procedures.shell]
over = "ssh-shell"
prompt = '^\\S+# ?$'
pager = '-- more --'
steps = [{ send = "paging off" }, { keep = "list settings active", as = "running.cfg", ends_with = "end" }]
step_deadline = "20s"
[procedures.web]
over = "https"
steps = [{ keep = "GET /export", as = "export" }]
step_deadline = "20s"
[procedures.learns]
extends = "web"
steps = [
  { send = "GET /export", learn = { one = "xpath://a[count(//a) > 3]//a" }, check = { lacks = ['(?=a)(a+)+$'] } },
  { keep = "GET /export", as = "export" },
]
[procedures.dropped]
over = "drop-folder"
folder = "{path}"
then = "remove"
steps = [{ pull = "*.txt", as = "export.txt", complete = "marker:{file}.done" }]
step_deadline = "20s"
[procedures.mailed]
over = "mailbox"
folder = "{path}"
then = "remove"
steps = [{ pull = "*" }]
step_deadline = "20s"
"""


class _Raw:
    """A port whose connections are handed to a function, each in a thread; over TLS where there is a certificate."""

    def __init__(self, handle: Callable[[socket.socket], None], tls: SelfSigned | None = None) -> None:
        self._listening = socket.create_server(("127.0.0.1", 0), backlog=50)
        self._handle = handle
        self._context = None
        if tls is not None:
            self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            self._context.load_cert_chain(tls.certificate, tls.key)
        self.port = self._listening.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                connection, _ = self._listening.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=[connection], daemon=True).start()

    def _serve(self, connection: socket.socket) -> None:
        with suppress(OSError, ssl.SSLError), connection:
            connection.settimeout(120)
            if self._context is not None:
                connection = self._context.wrap_socket(connection, server_side=True)
            self._handle(connection)

    def stop(self) -> None:
        """Stop listening."""
        self._listening.close()


def _silent(connection: socket.socket) -> None:
    while connection.recv(4096):
        pass


def _flood(connection: socket.socket) -> None:
    while True:
        connection.sendall(b"more and more\n" * 4000)
        time.sleep(0.005)  # so that the honest ones, in the same process, have their turn


def _drip(connection: socket.socket) -> None:
    for byte in itertools.cycle(b"HTTP/1.1 200 OK\r\nx: y\r\n"):
        connection.sendall(bytes([byte]))
        time.sleep(0.5)


def _flood_body(connection: socket.socket) -> None:
    connection.recv(4096)
    connection.sendall(b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n")
    while True:
        connection.sendall((b"fa0\r\n" + b"x" * 4000 + b"\r\n") * 20)
        time.sleep(0.005)


@dataclass
class Seen:
    """What was measured; times in seconds, memory in MB."""

    late: list[float] = field(default_factory=list)
    done: list[float] = field(default_factory=list)
    missed: int = 0
    visits: int = 0
    hostile_visits: int = 0
    memory: list[float] = field(default_factory=list)
    files: list[int] = field(default_factory=list)
    threads: list[int] = field(default_factory=list)
    processes: list[int] = field(default_factory=list)
    health: list[float] = field(default_factory=list)
    states: dict[str, int] = field(default_factory=dict)
    ending: float = 0.0
    code: int = 0
    log: str = ""
    reads: int = 0
    misread: list[str] = field(default_factory=list)
    versions: int = 0

    def troubles(self) -> list[str]:
        """What is not as it must be."""
        found = []
        if self.missed:
            found.append(f"{self.missed} visits of honest sources are missing or failed")
        if not self.late or max(self.late) > LATE.total_seconds() or max(self.done) > 2 * LATE.total_seconds():
            found.append("an honest source was late")
        if self.ending > 65 or self.code != 0:
            found.append(f"it ended with {self.code} after {self.ending:.1f} s")
        third = len(self.memory) // 3
        for name, values in (("memory", self.memory), ("files", self.files), ("threads", self.threads)):
            early, now = sorted(values[third : 2 * third] or [0]), sorted(values[2 * third :] or [0])
            if now[len(now) // 10] > early[len(early) // 10] * 1.15 + 8:  # what stays between the rounds
                found.append(f"{name} grew from {early[len(early) // 10]} to {now[len(now) // 10]}")
        if "Traceback" in self.log or "defect" in self.log:
            found.append("its log has a defect")
        if any("trouble" in state for state in self.states) or "store is in trouble" in self.log:
            found.append("its store was in trouble")
        found += self.misread
        return found


class Load:
    """One estate under load, in a folder."""

    def __init__(self, folder: Path, *, honest: int = 24, crowd: int = 0, at_once: int = 40) -> None:
        """`crowd` is how many more hostile sources there are, which never answer."""
        self.folder = folder
        self.background = Background()
        self._sources: list[str] = []
        self._crowded = crowd > 0
        self._turn = 0
        self._turns: list[Callable[[int], None]] = []
        self._exports = [(ending, now) for ending, _, now in hostile_exports()]
        self._closing = ExitStack()
        for name in ("sent", "tls"):
            (folder / name).mkdir(parents=True, exist_ok=True)
        FolderStore.create(folder / "store").close()
        (folder / "password").write_text("harbour-light")
        (folder / "password").chmod(0o600)
        self.honest = [f"honest-{kind}-{number}" for number in range(honest // len(_HONEST)) for kind in _HONEST]
        for name in self.honest:
            getattr(self, f"_honest_{name.split('-')[1]}")(name)
        self._hostile()
        self._crowd(crowd)
        (folder / "historon.toml").write_text(_HEAD.replace("{at_once}", str(at_once)) + "".join(self._sources))

    def close(self) -> None:
        """Stop all that listens."""
        self._closing.close()
        self.background.stop()

    def _source(self, name: str, procedure: str, **keys: object) -> None:
        values = {
            key: value for key, value in keys.items() if key not in ("port", "host_key", "certificate", "credentials")
        }
        lines = [f'[[sources]]\nname = "{name}"\nprocedure = "{procedure}"']
        if "port" in keys:
            lines.append('address = "127.0.0.1"')
        lines += [
            f"{key} = {json.dumps(keys[key])}"
            for key in ("port", "host_key", "certificate", "credentials")
            if key in keys
        ]
        if values:
            lines.append(
                "values = { " + ", ".join(f"{key} = {json.dumps(str(value))}" for key, value in values.items()) + " }"
            )
        self._sources.append("\n".join(lines) + "\n")

    def _text(self, name: str) -> str:
        body = "".join(f"interface port-{n}\n  description {name} {n}\n  mtu 1500\n" for n in range(60))
        return f"hostname {name}\nturn {self._turn}\n{body}end\n"

    # ---- those that must not be late ----------------------------------------------------------------------------------

    def _honest_ssh(self, name: str) -> None:
        router = Capstan(name, lambda: self._text(name))
        self.background.run(router.start())
        self._source(name, "shell", port=router.port, host_key=router.fingerprint, credentials="reader")

    def _honest_netconf(self, name: str) -> None:
        switch = Thole(name, lambda: _interfaces(name, self._turn))
        self.background.run(switch.start())
        self._source(name, "netconf", port=switch.port, host_key=switch.fingerprint, credentials="reader")

    def _honest_https(self, name: str) -> None:
        self._web(name, "web", lambda: self._text(name).encode())

    def _honest_file(self, name: str) -> None:
        file = self.folder / "sent" / name
        self._turns.append(lambda _: _replace(file, self._text(name).encode()))
        self._source(name, "files", path=f"sent/{name}")

    def _honest_tree(self, name: str) -> None:
        tree = self.folder / "sent" / name
        tree.mkdir()
        self._turns.append(lambda turn: _replace(tree / f"{turn % 5}.conf", self._text(name).encode()))
        self._source(name, "files", path=f"sent/{name}", part="tree")

    def _honest_command(self, name: str) -> None:
        self._turns.append(lambda _: _replace(self.folder / "sent" / f"{name}.txt", self._text(name).encode()))
        self._source(name, "command", program=self._program(name, f'exec cat "{self.folder}/sent/{name}.txt"'))

    # ---- those that would make them late ------------------------------------------------------------------------------

    def _hostile(self) -> None:
        for fault in (Fault.MUTE, Fault.ENDLESS, Fault.SLOW, Fault.CLOSES):
            name = f"hostile-ssh-{fault.name.lower()}"
            router = Capstan(name, partial(self._text, name))
            router.fault = fault
            self.background.run(router.start())
            self._source(name, "shell", port=router.port, host_key=router.fingerprint, credentials="reader")
        for trouble in (TholeFault.HANGS, TholeFault.GARBLES):
            switch = Thole(f"hostile-netconf-{trouble.name.lower()}", lambda: _interfaces("h", self._turn))
            switch.fault = trouble
            self.background.run(switch.start())
            self._source(switch.name, "netconf", port=switch.port, host_key=switch.fingerprint, credentials="reader")
        for handle in (_silent, _flood, _drip):
            self._raw(f"hostile-ssh{handle.__name__}", "shell", handle, credentials="reader")
            self._raw(f"hostile-web{handle.__name__}", "web", handle)
        self._raw("hostile-web-endless", "web", _flood_body, tls=True)
        for number in range(4):
            self._web(f"hostile-web-sent-{number}", "web", partial(self._export, number))
        self._web("hostile-web-learns", "learns", lambda: b"<r>" + b"<a>" * 200 + b"a" * 60 + b"</a>" * 200 + b"b</r>")
        self._web("hostile-web-large", "web", partial(bytes, b"[" + b"[]," * 8_000_000 + b"0]"))
        for number in range(8):
            self._sent(f"hostile-file-{number}", number)
        self._program_source("endless", "while :; do echo more and more and more; done")
        self._program_source("deaf", "trap '' TERM INT HUP; sleep 1000 & wait; sleep 1000")
        self._program_source("holds", "sleep 1000 & echo done")
        self._source("hostile-secret", "web", port=9, credentials="slow")
        self._fifo("hostile-fifo-file")
        self._dropped("hostile-drop-fifo", fifo=True)
        self._dropped("hostile-drop-sent", fifo=False)
        self._mailed("hostile-mail")

    def _crowd(self, number: int) -> None:
        """Sources that are all new, take a connection, and let it hang; half of them with the honest ones' account."""
        ports = {"shell": _Raw(_silent), "web": _Raw(_silent)}
        for server in ports.values():
            self._closing.callback(server.stop)
        key = asyncssh.generate_private_key("ssh-ed25519").get_fingerprint()
        known: dict[str, dict[str, object]] = {
            "shell": {"host_key": key, "credentials": "reader"},
            "web": {"certificate": SelfSigned.make(self.folder / "tls", "crowd").fingerprint},
        }
        for at in range(number):
            procedure = ("shell", "web")[at % 2]
            self._source(f"crowd-{at}", procedure, port=ports[procedure].port, **known[procedure])

    def _export(self, number: int) -> bytes:
        return self._exports[(self._turn * 12 + number) % len(self._exports)][1]

    def _web(self, name: str, procedure: str, content: Callable[[], bytes]) -> None:
        server = ContentServer(name, self.folder / "tls" / name, content)
        server.start()
        self._closing.callback(server.stop)
        self._source(name, procedure, port=server.port, certificate=server.fingerprint)

    def _raw(
        self, name: str, procedure: str, handle: Callable[[socket.socket], None], *, tls: bool = False, **keys: object
    ) -> None:
        folder = self.folder / "tls" / name
        folder.mkdir()
        identity = SelfSigned.make(folder, name) if tls or procedure == "web" else None
        server = _Raw(handle, identity if tls else None)
        self._closing.callback(server.stop)
        if identity is not None:
            keys["certificate"] = identity.fingerprint
        if procedure == "shell":
            keys["host_key"] = asyncssh.generate_private_key("ssh-ed25519").get_fingerprint()
        self._source(name, procedure, port=server.port, **keys)

    def _sent(self, name: str, number: int) -> None:
        self._turns.append(lambda _: _replace(self.folder / "sent" / name, self._export(4 + number)))
        part = f"export.{self._exports[number][0]}"
        self._source(name, "files", path=f"sent/{name}", part=part)

    def _program(self, name: str, script: str) -> Path:
        program = self.folder / "sent" / f"{name}.sh"
        program.write_text(f"#!/bin/sh\n{script}\n")
        program.chmod(0o700)
        return program

    def _program_source(self, name: str, script: str) -> None:
        self._source(f"hostile-program-{name}", "command", program=self._program(name, script))

    def _fifo(self, name: str) -> None:
        os.mkfifo(self.folder / "sent" / name)
        self._source(name, "files", path=f"sent/{name}")

    def _dropped(self, name: str, *, fifo: bool) -> None:
        drop = self.folder / name
        drop.mkdir()

        def push(turn: int) -> None:
            _replace(drop / f"{turn}.txt", self._export(3))
            marker = drop / f"{turn}.txt.done"
            if fifo:
                os.mkfifo(marker)
            else:
                marker.write_bytes(b"")

        self._turns.append(push)
        self._source(name, "dropped", path=name)

    def _mailed(self, name: str) -> None:
        box = self.folder / name
        for sub in ("new", "cur", "tmp"):
            (box / sub).mkdir(parents=True)

        def deliver(turn: int) -> None:
            letter = EmailMessage()
            letter["Subject"] = "export"
            letter.add_attachment(
                self._export(2), maintype="application", subtype="octet-stream", filename="export.bin"
            )
            content = bytes(letter)
            if turn % 3 == 1:
                content = b"Subject: " + b"=?utf-8?q?" * 5000 + b"\n" + content
            if turn % 3 == 2:
                content = (
                    b'Content-Type: multipart/mixed; boundary="'
                    + b"x" * 70
                    + b'"\n\n'
                    + (b"--" + b"x" * 70 + b"\n") * 20_000
                )
            _replace(box / "new" / f"{turn}.letter", content)

        self._turns.append(deliver)
        self._source(name, "mailed", path=name)

    # ---- what is measured ---------------------------------------------------------------------------------------------

    def run(self, minutes: int, told: Callable[[str], None]) -> Seen:
        """Let the service keep its timetable for so many minutes, and see how it goes."""
        seen = Seen()
        self._change()
        if self._crowded:  # the honest ones have a good record when the others come
            subprocess.run([PROGRAM, "collect", *self.honest], cwd=self.folder, capture_output=True, check=True)
        with self._serving() as (process, port):
            began = datetime.now().astimezone()
            until = time.monotonic() + minutes * 60 - datetime.now().second + 45
            second = count()
            onlooking = threading.Thread(target=self._look_on, args=[process, seen])
            onlooking.start()
            while time.monotonic() < until and process.poll() is None:
                self._look(process.pid, port, seen)
                if next(second) % 60 == 30:
                    self._change()
                    told(_so_far(seen))
                time.sleep(1)
            asked = time.monotonic()
            process.send_signal(signal.SIGTERM)
            seen.code = process.wait(120)
            seen.ending = time.monotonic() - asked
            onlooking.join()
        seen.log = (self.folder / "service.log").read_text(errors="replace")
        self._judge(seen, began)
        return seen

    def _look_on(self, process: subprocess.Popen[bytes], seen: Seen) -> None:
        """Be somebody who looks at this and that meanwhile, from processes of their own."""
        for command in itertools.cycle(_LOOKS):
            for _ in range(7):
                time.sleep(1)
                if process.poll() is not None:
                    return
            done = subprocess.run(
                [PROGRAM, *command], cwd=self.folder, capture_output=True, text=True, errors="replace", check=False
            )
            seen.reads += 1
            if done.returncode not in (0, 1, 2) or "defect" in done.stderr:
                seen.misread.append(f"{' '.join(command)} ended with {done.returncode}: {done.stderr[-300:]}")

    @contextmanager
    def _serving(self) -> Iterator[tuple[subprocess.Popen[bytes], int]]:
        log = self.folder / "service.log"
        with log.open("wb") as written:
            process = subprocess.Popen([PROGRAM, "serve", "--port", "0"], cwd=self.folder, stderr=written)
            try:
                while not (found := re.search(rb"http://127.0.0.1:(\d+)", log.read_bytes())):
                    time.sleep(0.1)
                yield process, int(found[1])
            finally:
                if process.poll() is None:
                    process.kill()
                    process.wait()

    def _change(self) -> None:
        """What all sources have to give becomes another."""
        self._turn += 1
        for turn in self._turns:
            turn(self._turn)

    def _look(self, pid: int, port: int, seen: Seen) -> None:
        began = time.monotonic()
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/health", timeout=30) as answer:
                state = json.loads(answer.read())["state"]
        except urllib.error.HTTPError as exc:
            with exc:
                state = json.loads(exc.read())["state"]
        except OSError as exc:
            state = f"no answer: {exc}"
        seen.health.append(time.monotonic() - began)
        state = re.sub(r"\d+(\.\d+)?", "N", state)
        seen.states[state] = seen.states.get(state, 0) + 1
        with suppress(OSError, StopIteration, ValueError):
            status = Path(f"/proc/{pid}/status").read_text()
            seen.memory.append(int(re.search(r"VmRSS:\s*(\d+)", status)[1]) / 1000)  # type: ignore[index]
            seen.threads.append(int(re.search(r"Threads:\s*(\d+)", status)[1]))  # type: ignore[index]
            seen.files.append(len(os.listdir(f"/proc/{pid}/fd")))
            seen.processes.append(_descendants(pid))

    def _judge(self, seen: Seen, began: datetime) -> None:
        store = FolderStore(self.folder / "store")
        last = began
        for one in store.rounds(limit=100_000):
            if one.trigger == "hand":
                continue
            for visit in store.visits(one.number):
                if visit.source not in self.honest:
                    seen.hostile_visits += 1
                    continue
                due = visit.at.replace(second=0, microsecond=0)
                seen.visits += 1
                seen.late.append((visit.at - due).total_seconds())
                seen.done.append((visit.at + visit.took - due).total_seconds())
                seen.missed += visit.outcome not in ("new", "changed", "unchanged", "interrupted")
                last = max(last, visit.at)
        wanted = int((last - began) // timedelta(minutes=1)) * len(self.honest)
        seen.missed += max(0, wanted - seen.visits)
        for name in self.honest:
            seen.versions += len(store.versions(name))
        store.close()
        verified = subprocess.run([PROGRAM, "verify"], cwd=self.folder, capture_output=True, text=True, check=False)
        if verified.returncode:
            seen.misread.append(f"verify ended with {verified.returncode}: {verified.stderr[-300:]}")


def _interfaces(name: str, turn: int) -> str:
    """A switch's configuration."""
    ports = "".join(f"<interface><name>port-{n}</name><mtu>{1500 + turn % 7}</mtu></interface>" for n in range(40))
    return f'<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><host>{name}</host>{ports}</interfaces>'


def _replace(file: Path, content: bytes) -> None:
    being_written = file.with_name(f".{file.name}.tmp")
    being_written.write_bytes(content)
    being_written.rename(file)


def _descendants(pid: int) -> int:
    parents = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with suppress(OSError, IndexError, ValueError):
                parents[int(entry.name)] = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
    found, known = 0, {pid}
    for child in sorted(parents):
        if parents[child] in known:
            known.add(child)
            found += 1
    return found


def _so_far(seen: Seen) -> str:
    return (
        f"{len(seen.health)} s: memory {seen.memory[-1]:.0f} MB, files {seen.files[-1]}, threads {seen.threads[-1]}, "
        f"processes {seen.processes[-1]}, health at worst {max(seen.health):.2f} s, {seen.states}"
    )


def _middle(values: list[float] | list[int]) -> float:
    return sorted(values)[len(values) // 2] if values else 0


@click.command()
@click.option("--minutes", default=60, show_default=True)
@click.option("--honest", default=24, show_default=True, help="Sources that must not be late.")
@click.option("--crowd", default=0, show_default=True, help="Hostile sources that never answer, besides the others.")
@click.option("--at-once", default=40, show_default=True)
@click.option("--folder", type=click.Path(path_type=Path), help="Where the estate is to stay; otherwise it is removed.")
def main(minutes: int, honest: int, crowd: int, at_once: int, folder: Path | None) -> None:
    """Run the service under load for so many minutes."""
    with tempfile.TemporaryDirectory() as temporary:
        trial = Load(folder or Path(temporary), honest=honest, crowd=crowd, at_once=at_once)
        try:
            seen = trial.run(minutes, lambda words: print(words, flush=True))
        finally:
            trial.close()
    print(f"read meanwhile     {seen.reads} times; {seen.versions} versions of honest sources verified")
    print(f"honest visits      {seen.visits}, {seen.missed} missing or failed; hostile visits {seen.hostile_visits}")
    print(f"begun after due    median {_middle(seen.late):.2f} s, worst {max(seen.late, default=0):.2f} s")
    print(f"done after due     median {_middle(seen.done):.2f} s, worst {max(seen.done, default=0):.2f} s")
    for name, values in (
        ("memory, MB", seen.memory),
        ("open files", seen.files),
        ("threads", seen.threads),
        ("processes", seen.processes),
    ):
        quarter = max(1, len(values) // 4)
        print(
            f"{name:<18} "
            + ", ".join(f"{_middle(values[at : at + quarter]):.0f}" for at in range(0, len(values), quarter))
            + f"; most {max(values, default=0):.0f}"
        )
    print(f"/health            worst {max(seen.health):.2f} s; {seen.states}")
    print(f"SIGTERM            ended with {seen.code} after {seen.ending:.1f} s")
    troubles = seen.troubles()
    print("\n".join(troubles) or "as it must be")
    sys.exit(bool(troubles))


if __name__ == "__main__":
    main()
