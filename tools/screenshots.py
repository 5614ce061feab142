"""Take the pictures in docs/screenshots: the real commands, in a real terminal window, on the demo's estate.

Needs Xvfb, xterm, ImageMagick and (for the mail) Chromium, from the distribution's packages.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OUT = ROOT / "docs" / "screenshots"
DISPLAY = ":94"
_LEAST = 2000  # bytes of a picture that shows anything
BROKEN = """
[[sources]]
name = "saltgate-mast-1"
address = "127.0.0.1"
port = 9
procedure = "capstan-router"
credentials = "devices"
labels = { site = "saltgate", role = "mast" }
"""
_DIGEST = r"sed -n 's/.*digest.: .\([0-9a-f]*\).*/\1/p'"
_PUSH = "historon push northmole-edge-1@1 --only 'interface port-3'"
SHOTS = {
    "rehearse": "historon rehearse saltgate-wall-1 purser-files saltgate-mast-1",
    "collect": "historon collect",
    "status": "historon status",
    "agenda": "historon agenda; historon agenda --simulate 30d",
    "versions": "historon versions northmole-edge-1",
    "diff": "historon diff northmole-edge-1@1 northmole-edge-1",
    "changes": "historon changes --since 5d",
    "trace": "historon find 10.20.0.9 --ever; historon trace northmole-edge-1 'vlan 131'",
    "requirements": "historon requirements",
    "prune": "historon copies; for o in '' 'eider-yard-1 --calendar'; do historon prune --at 2027-03-01 $o; done",
    "restore": "rm simulated/purser/data/tariffs/summer.csv; historon restore purser-files@2 --over-originals --yes",
    "push": f"{_PUSH} --lines; {_PUSH} --confirm $({_PUSH} --json | {_DIGEST})",
    "notices": "historon notices; historon notices history --last 4; historon notices show 4",
    "rounds": "historon rounds --last 5; historon rounds 5",
    "mistakes": "cat wrong.toml; historon status --estate wrong.toml",
    "doctor": "chmod 644 keys/password; cat >> historon.toml < more.toml; historon doctor",
}
MORE = """
[procedures.mast-controller]
over = "telnet"
prompt = '^mast> ?$'
steps = [{ keep = "dump all", as = "mast.cfg" }]

[credentials.mast]
user = "admin"
password = "env:MAST_PASSWORD"
"""
WRONG = """\
[estate]
name = "Brackwater Ferries"
time_zone = "Europe/Olso"

[retention.standard]
all = 30
month = "12 months"

[credentials.routers]
user = "config-reader"
password = "harbour-light"

[[sources]]
name = "northmole-edge-1"
adress = "10.20.0.1"
procedure = "capstan-router"
retention = "standart"
"""


def main() -> None:
    """Play the demo, leave its devices running, and photograph each command."""
    for program in ("Xvfb", "xterm", "import"):
        if not shutil.which(program):
            sys.exit(f"{program} is missing: install xvfb, xterm and imagemagick")
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name, _screen():
        estate = Path(name) / "brackwater"
        with _demo(estate):
            (estate / "wrong.toml").write_text(WRONG)
            file = estate / "historon.toml"
            file.write_text(file.read_text().replace('all = "2d"', 'all = "1h"') + BROKEN)
            (estate / "more.toml").write_text(MORE)
            purser = estate / "simulated" / "purser" / "data" / "purser.conf"
            purser.write_text(purser.read_text().replace("workers = 8", "workers = 12"))
            for shot, command in SHOTS.items():
                shown = {"doctor": "historon doctor", "push": f"{_PUSH} --lines; {_PUSH} --confirm DIGEST"}
                _terminal(shot, command, estate, shown.get(shot, ""))
            _page_shot(estate)
        _demo_shot(Path(name))
        _mail_shot(Path(name))


@contextmanager
def _screen() -> Iterator[None]:
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        yield
    finally:
        server.terminate()


@contextmanager
def _demo(estate: Path) -> Iterator[None]:
    """The demo, played to its end, with its devices left running."""
    historon = ROOT / ".venv" / "bin" / "historon"
    process = subprocess.Popen([historon, "demo", estate, "--stay"], stdout=subprocess.PIPE, text=True)
    assert process.stdout
    for line in process.stdout:
        if "run until Ctrl-C" in line:
            break
    try:
        yield
    finally:
        process.terminate()
        process.wait()


def _terminal(shot: str, command: str, folder: Path, shown: str = "") -> None:
    done = folder / ".done"
    done.unlink(missing_ok=True)
    typed = (shown or command).replace("'", "'\\''")
    script = (
        f"clear; printf '\\033[?25l'; printf '\\033[1m$ %s\\033[0m\\n' '{typed}'; {command}; touch {done}; sleep 60"
    )
    environment = {**os.environ, "DISPLAY": DISPLAY, "PATH": f"{ROOT / '.venv' / 'bin'}:{os.environ['PATH']}"}
    window = subprocess.Popen(
        [
            "xterm",
            "-geometry",
            "126x39+0+0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "12",
            "-bg",
            "#14181d",
            "-fg",
            "#d8dee6",
            "-xrm",
            "XTerm*cursorColor: #14181d",
            "-xrm",
            "XTerm*color8: #7d8794",
            "-e",
            "bash",
            "-c",
            script,
        ],
        cwd=folder,
        env=environment,
        stderr=subprocess.DEVNULL,
    )
    deadline = time.monotonic() + 60
    while not done.exists() and time.monotonic() < deadline:
        time.sleep(0.1)
    time.sleep(0.6)
    raw = folder / ".window.png"
    subprocess.run(["import", "-window", "root", raw], env=environment, check=True)
    edges = ["-trim", "+repage", "-trim", "+repage", "-bordercolor", "#14181d", "-border", "8", "-colors", "64"]
    picture = OUT / f"{shot}.png"
    subprocess.run(["convert", raw, *edges, picture], check=True)
    if picture.stat().st_size < _LEAST:
        sys.exit(f"{shot}: the picture is empty; take it again")
    window.terminate()
    window.wait()
    print(f"{shot}: {command}")


def _demo_shot(folder: Path) -> None:
    """What the demo shows of its fifth night, when things go wrong."""
    command = f"script -qec 'historon demo {folder}/again' /dev/null | sed -n '/Night 5/,/It is morning/p'"
    _terminal("demo", command, folder, "historon demo")


def _page_shot(estate: Path) -> None:
    """A difference as a page."""
    historon = str(ROOT / ".venv" / "bin" / "historon")
    command = [historon, "diff", "northmole-edge-1@1", "northmole-edge-1", "--form", "html"]
    page = estate / "page.html"
    page.write_bytes(subprocess.run(command, cwd=estate, capture_output=True, check=False).stdout)
    _photograph(page, "page", "1240,860")


def _photograph(page: Path, shot: str, size: str) -> None:
    browser = shutil.which("chromium")
    if not browser:
        print(f"{shot}: left out, as there is no chromium")
        return
    subprocess.run(
        [
            browser,
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-background-networking",
            "--disable-sync",
            "--no-first-run",
            f"--user-data-dir={page.parent}/profile",
            f"--window-size={size}",
            f"--screenshot={OUT / shot}.png",
            page.as_uri(),
        ],
        check=True,
        stderr=subprocess.DEVNULL,
    )
    print(f"{shot}: {page.name}")


def _mail_shot(folder: Path) -> None:
    """The letter of the fifth night and a day of changes, as a mail program would show its HTML."""
    script = ROOT / "tools" / "letter.py"
    page = folder / "letter.html"
    page.write_text(subprocess.run([sys.executable, script], capture_output=True, text=True, check=True).stdout)
    _photograph(page, "mail", "900,680")


if __name__ == "__main__":
    main()
