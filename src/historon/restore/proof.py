"""Proving a version: it is laid out in a scratch folder, and programs say whether it would do.

What they look at is foreign: each runs with an empty home, few variables, no network where the system lets that be
taken from it (unshare(1)), and bounded in time, memory and what it may write. What could not be run proves nothing.
"""

import os
import re
import resource
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path

from historon.base.disk import scratch
from historon.base.errors import HistoronError, UsageError, where_raised
from historon.base.quantities import size_text, utc_text
from historon.base.visible import made_visible
from historon.estate import Estate, Procedure, Source, fill, small_environment, values_of
from historon.restore.writing import write_version
from historon.store import Proof, Store, Version, last_proofs, note_proof
from historon.versions import Masks

__all__ = ["prove", "prove_by_itself"]

_MEMORY = 2 * 2**30
_WRITTEN = 4 * 2**30  # bytes, in one file and in all of the scratch folder beside the version itself
_LOOK_S = 0.5  # between looks at how much was written
_BLOCK = 512  # the unit of st_blocks, stat(2)
_OUTPUT = 4_000  # bytes of what a program says that are looked at
_SAID = 200  # characters of a line
_LINES = 8  # the last ones of what a program says
_WRONG = re.compile(
    r"\b(?:error|emerg|alert|fatal|fail\w*|invalid|unknown|cannot|unexpected|no such|missing)\b", re.IGNORECASE
)


def prove(store: Store, source: Source, procedure: Procedure, version: Version, at: datetime) -> Proof:
    """Lay a version out and run the procedure's `proof`; the verdict is put on record. StoreError.

    Where the procedure lets it decide, a version that fails is no good one any more. UsageError where the procedure has
    no proof.
    """
    if not procedure.proof:
        hint = 'add to it: proof = [["PROGRAM", "ARGUMENT", "{folder}/PART"]]'
        raise UsageError(f"the procedure {source.procedure} has no proof", hint=hint)
    began = time.monotonic()
    masks = Masks.of(procedure, key=store.fingerprint_key())
    with scratch() as aside:
        folder = aside / "version"
        write_version(store, version, folder, Masks(), permissions=True, outward_links=True)
        values = {**values_of(source, procedure), "folder": str(folder)}
        found = _Found("unknown", "the proof has no command")
        try:
            around = _surroundings(procedure, folder)
            for command in procedure.proof:
                words = [str(fill(word, values)) for word in command]
                found = _run(words, folder, procedure.step_deadline.total_seconds(), around)
                if found.verdict != "proven":
                    break
        except LookupError as exc:
            found = _Found("unknown", str(exc.args[0]))
    said = tuple(masks.seen(one) for one in found.said)
    proof = Proof(
        found.verdict,
        utc_text(at),
        round(time.monotonic() - began, 1),
        masks.seen(found.why),
        said,
        procedure.proof_digest,
    )
    note_proof(store, version, proof)
    if proof.verdict == "failed" and procedure.proof_decides and version.good:
        store.doubt(version, f"its proof failed: {proof.why}")
    return proof


@dataclass(frozen=True)
class _Found:
    """A verdict, why it is not better, and the last lines of what the program said."""

    verdict: str
    why: str = ""
    said: tuple[str, ...] = ()


# Lays folders over paths of this machine, for the program that follows and nobody else. Where a path is not there,
# its folder is shown with links to all that is really in it, and a place for the path.
_LAY = r"""
lay() {
  if [ ! -d "$2" ]; then
    above=$(dirname "$2"); [ -d "$above" ] || { echo "there is no $above" >&2; return 1; }
    made=$(mktemp -d "$scratch/lay.XXXXXX") && mkdir "$made/real" "$made/new" || return 1
    mount --bind "$above" "$made/real" || return 1
    for one in "$above"/* "$above"/.[!.]*; do
      [ -e "$one" ] || [ -L "$one" ] || continue
      ln -s "$made/real/$(basename "$one")" "$made/new/" || return 1
    done
    mkdir "$made/new/$(basename "$2")" && mount --bind "$made/new" "$above" || return 1
  fi
  mount --bind "$1" "$2"
}
scratch=$1; shift
while [ "$1" != -- ]; do lay "$1" "$2" || exit 125; shift 2; done
shift
exec "$@"
"""
_NOT_LAID = 125


def _surroundings(procedure: Procedure, folder: Path) -> tuple[str, ...]:
    """What a program of a proof is run through: without network where that can be, and with the version in its place.

    LookupError where the version has to lie somewhere and this system does not allow that.
    """
    if not procedure.proof_at:
        return _unshared("--net") or ()
    around = _unshared("--net", "--mount")
    if around is None:
        raise LookupError("this system allows no mount namespace, and the version must be tested at its own paths")
    laid: list[str] = []
    for place, part in sorted(procedure.proof_at.items()):
        there = folder / part
        if not part:
            there = Path(tempfile.mkdtemp(dir=folder.parent))
            there.chmod(0o755)
        if not there.is_dir():
            raise LookupError(f"the version has no folder {part}, which belongs at {place}")
        laid += [str(there), place]
    return (*around, "sh", "-c", _LAY, "lay", str(folder.parent), *laid, "--")


def prove_by_itself(estate: Estate, store: Store, at: datetime, *, anew: bool) -> dict[str, Proof]:
    """Try the last good versions of all sources whose procedures have a proof: those not tried yet, or all `anew`.

    Returns how the last good version of each such source stands. What goes wrong with one is its own. StoreError.
    """
    known = {} if anew else last_proofs(store, estate.proof_digests)
    known = {name: proof for name, proof in known.items() if proof.by == estate.proof_digests[name]}
    for source in estate.sources.values():
        procedure = estate.procedure_of(source)
        good = store.state(source.name).good
        version = store.version(source.name, good) if good is not None else None
        if not procedure.proof or version is None or source.name in known:
            continue
        try:
            known[source.name] = prove(store, source, procedure, version, at)
        except Exception as exc:
            why = _why(exc)
            known[source.name] = Proof("unknown", utc_text(at), 0.0, why, by=procedure.proof_digest)
            note_proof(store, version, known[source.name])
    return {name: proof for name, proof in known.items() if name in estate.sources}


def _why(exc: Exception) -> str:
    if isinstance(exc, HistoronError):
        return exc.message
    if isinstance(exc, OSError):
        return f"{exc.filename or 'it'}: {exc.strerror}"
    return f"a defect in Historon itself: {where_raised(exc)}"


def _run(command: Sequence[str], folder: Path, seconds: float, around: Sequence[str]) -> _Found:
    """What a program says of it."""
    program = shutil.which(command[0], path=_path())
    if program is None:
        return _Found("unknown", f"there is no program {command[0]} on this machine")
    home = folder.parent / "home"
    home.mkdir(exist_ok=True)
    environment = {"PATH": _path(), "HOME": str(home), "TMPDIR": str(home), "LC_ALL": "C"}
    with tempfile.TemporaryFile() as out:
        running = subprocess.Popen(
            [*around, program, *command[1:]],
            cwd=folder,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            preexec_fn=_bounded,
        )
        try:
            code = _code_of(running, folder.parent, seconds)
        except subprocess.TimeoutExpired:
            return _Found("failed", f"{command[0]} did not end within {seconds:g}s")
        except _TooMuchWrittenError:
            return _Found("failed", f"{command[0]} wrote more than {size_text(_WRITTEN)}")
        finally:
            _end(running)
        size = out.seek(0, os.SEEK_END)
        out.seek(max(0, size - _OUTPUT))
        said = out.read(_OUTPUT).decode("utf-8", "replace")
        if size > _OUTPUT:
            said = said.partition("\n")[2]  # of a line that lacks its beginning nobody can tell the secrets
    if not code:
        return _Found("proven")
    lines = tuple(made_visible(line, instead=" ")[:_SAID] for line in said.splitlines() if line.strip())[-_LINES:]
    if code == _NOT_LAID and around and "lay" in around:
        return _Found("unknown", f"the version could not be put at its paths: {lines[-1] if lines else ''}")
    how = f"was ended by signal {-code}" if code < 0 else f"ended with {code}"
    return _Found("failed", f"{command[0]} {how}" + (f": {_telling(lines)}" if lines else ""), lines)


def _telling(lines: Sequence[str]) -> str:
    """The first of some lines that says what is wrong, else the last."""
    return next((line for line in lines if _WRONG.search(line)), lines[-1])


class _TooMuchWrittenError(Exception):
    pass


def _code_of(running: "subprocess.Popen[bytes]", scratch: Path, seconds: float) -> int:
    """How a program ended. TimeoutExpired when it does not in time, _TooMuchWrittenError when it fills the disk."""
    allowed = _written(scratch) + _WRITTEN
    deadline = time.monotonic() + seconds
    while True:
        left = deadline - time.monotonic()
        try:
            return running.wait(max(0.0, min(_LOOK_S, left)))
        except subprocess.TimeoutExpired:
            if left <= 0:
                raise
        if _written(scratch) > allowed:
            raise _TooMuchWrittenError


def _written(folder: Path) -> int:
    """How many bytes of the disk the files below a folder take; what goes meanwhile counts for nothing."""
    total = 0
    for path, _, names in os.walk(folder):
        for name in names:
            with suppress(OSError):
                total += os.lstat(os.path.join(path, name)).st_blocks * _BLOCK
    return total


def _bounded() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_WRITTEN, _WRITTEN))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _end(running: "subprocess.Popen[bytes]") -> None:
    """Leave nothing running of what it started."""
    with suppress(ProcessLookupError):
        os.killpg(running.pid, signal.SIGKILL)
    running.wait()


def _path() -> str:
    return f"{small_environment().get('PATH', '')}:/usr/local/sbin:/usr/sbin:/sbin:/usr/local/bin:/usr/bin:/bin"


@cache
def _unshared(*what: str) -> tuple[str, ...] | None:
    """What a program is run through to have these of its own (unshare(1)); None where the system does not allow it."""
    unshare = shutil.which("unshare", path=_path())
    if unshare is None:
        return None
    for options in (what, (*what, "--map-root-user")):
        tried = ["sh", "-c", "mount --bind /tmp /tmp"] if "--mount" in what else ["true"]
        done = subprocess.run([unshare, *options, *tried], capture_output=True, check=False)
        if done.returncode == 0:
            return (unshare, *options)
    return None
