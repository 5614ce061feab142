"""A copy in a git repository: one commit a round, by the real git; what others did there is told, and never forced.

The repository is bare. A commit's author date is that of its round; trailers name the round and the versions. Versions
of noise alone are left out: they would be all that most nights bring.
"""

import hashlib
import shutil
import subprocess
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from historon.copies.rebuilding import Found, rebuild
from historon.errors import OutsideError, StoreError
from historon.estate import Estate, GitCopy, small_environment
from historon.store import ESTATE, LARGE, Copied, Damage, Outcome, State, Store, Verification, Version, open_store
from historon.versions import Masks, is_binary

__all__ = ["fetch", "update", "verify"]

_LIMIT_S = 300
_WHO = b"Historon <historon@localhost>"
_NEWS = (Outcome.FIRST, Outcome.CHANGED)
_ROUND, _VERSION, _MASKED = "Historon-Round", "Historon-Version", "Historon-Masked"


@dataclass(frozen=True)
class _Commit:
    """What one commit brings: versions that take the place of what their sources had."""

    at: datetime
    subject: str
    round: int
    versions: Sequence[Version]


def update(copy: GitCopy, estate: Estate, store: Store) -> Copied:
    """See CopyModule. All commits come at once, or none."""
    place, changes = estate.path(copy.path), store.change_number()
    texts = _Texts(copy, estate, store)
    _make(place, copy.branch)
    tip = _tip(place, copy.branch)
    _check_ours(place, tip, store.recall(ESTATE, _topic(place)) or "")
    commits = [*_rounds_after(store, _last_round(place, tip))]
    if commits:
        _import(place, copy, tip, commits, texts)
        tip = _tip(place, copy.branch)
    latest = _latest(store)
    if differing := _differing(latest, _blobs(place, tip), texts):
        # Of what no round brought: a version that was vouched for, or masks that are others now.
        at = max(version.at for version in differing)
        last = _last_round(place, tip)
        _import(place, copy, tip, [_Commit(at, "as the store is now", last, differing)], texts)
        tip = _tip(place, copy.branch)
    store.remember(ESTATE, _topic(place), tip)
    if copy.push is not None and tip:
        _git(place, "push", "--quiet", copy.push, f"refs/heads/{copy.branch}")
    size = sum(file.stat().st_size for file in place.rglob("*") if file.is_file())
    return Copied(len(latest), len(latest), size, changes, left_out=tuple(sorted(texts.left_out)))


def fetch(copy: GitCopy, estate: Estate, folder: Path) -> None:
    """See CopyModule: the versions that commits brought, with the instants of their rounds."""
    place = estate.path(copy.path)
    if copy.masked:
        raise OutsideError(f"{place}: its secrets are masked, so that no version is whole", hint="take another copy")
    form = f"--format=%H %aI %(trailers:key={_VERSION},valueonly,separator=%x20)"
    versions: list[Found] = []
    for line in _git(place, "log", "--reverse", form, _tip(place, copy.branch)).decode().splitlines():
        commit, at, *brought = line.split(" ")
        blobs = _blobs(place, commit)
        for source in (one.rpartition("@")[0] for one in brought if one):
            prefix = f"{source}/"
            parts = {path.removeprefix(prefix): blob for path, blob in blobs.items() if path.startswith(prefix)}
            versions.append(Found(source, datetime.fromisoformat(at), parts))
    versions.sort(key=lambda one: one.at)
    rebuild(folder, versions, lambda blob: _git(place, "cat-file", "blob", blob))


def verify(copy: GitCopy, estate: Estate, _sample: int | None) -> Verification:
    """See CopyModule. Git checks all its objects; the newest commit is compared with the last good versions."""
    place = estate.path(copy.path)
    found = Verification()
    try:
        _git(place, "fsck", "--no-dangling", "--no-progress")
    except StoreError as exc:
        found.ledger.append(exc.message)
        return found
    with closing(open_store(estate)) as store:
        texts = _Texts(copy, estate, store)
        latest = _latest(store)
        found.sources = found.versions = len(latest)
        there = _blobs(place, _tip(place, copy.branch))
        found.contents = len(there)
        for version in _differing(latest, there, texts):
            found.damages.append(Damage(version.source, version.number, "", "the newest commit has something else"))
    return found


class _Texts:
    """The contents of versions as they are committed."""

    def __init__(self, copy: GitCopy, estate: Estate, store: Store) -> None:
        self._copy, self._estate, self._store = copy, estate, store
        self.masked = copy.masked
        self.left_out: set[str] = set()

    def of(self, version: Version) -> Iterator[tuple[str, int, Iterator[bytes]]]:
        """The files of a version: paths below the repository, their sizes, and what they hold, a piece at a time."""
        masks = self._masks(version.source) if self.masked else None
        for part in self._store.parts(version.source, version.number):
            path = f"{version.source}/{part.name}"
            if not _may_be_committed(path):
                self.left_out.add(f"{version.source}@{version.number} {part.name!r}: git takes no file of this name")
            elif masks is None:
                yield path, part.size, self._store.pieces(part)
            elif part.size <= LARGE and not is_binary(content := self._store.read(part)):  # others nobody can mask
                shown = masks.hide(content)
                yield path, len(shown), iter([shown])

    def _masks(self, source: str) -> Masks | None:
        known = self._estate.sources.get(source)
        procedure = self._estate.procedure_of(known) if known else None
        return Masks.of(procedure, key=self._store.fingerprint_key(), with_noise=True)


def _rounds_after(store: Store, last: int) -> Iterator[_Commit]:
    """What each round after this one brought, in their order; without what was pruned since."""
    for one in reversed(store.rounds(10**9)):
        if one.number <= last:
            continue
        brought = [
            (visit.source, visit.number)
            for visit in store.visits(one.number)
            if visit.outcome in _NEWS and visit.number is not None
        ]
        there = [store.version(*each) for each in brought]
        versions = [version for version in there if version is not None and version.state is State.GOOD]
        if versions:
            told = ", ".join(f"{one.outcomes[outcome]} {outcome}" for outcome in Outcome if outcome in one.outcomes)
            yield _Commit(one.began, f"round {one.number}: {told}", one.number, versions)


def _latest(store: Store) -> list[Version]:
    """Of each source the newest good version that changed more than noise."""
    found: dict[str, Version] = {}
    for name in store.states():
        for version in store.versions(name):
            if version.state is State.GOOD:
                found[name] = version
    return [*found.values()]


def _differing(latest: Sequence[Version], blobs: Mapping[str, str], texts: _Texts) -> list[Version]:
    """Those of the versions that are not what is committed of their sources."""
    there: dict[str, dict[str, str]] = {}
    for path, blob in blobs.items():
        there.setdefault(path.partition("/")[0], {})[path] = blob
    return [
        version
        for version in latest
        if {path: _blob_of(size, pieces) for path, size, pieces in texts.of(version)} != there.get(version.source, {})
    ]


def _may_be_committed(path: str) -> bool:
    """Whether git takes a file of this name: no piece of it is empty, leads elsewhere, or is git's own."""
    return not any(piece.lower() in ("", ".", "..", ".git") or "\0" in piece for piece in path.split("/"))


def _blob_of(size: int, pieces: Iterator[bytes]) -> str:
    """The name that git gives a content: the SHA-1 of a head and the bytes (gitformat-loose(5))."""
    digest = hashlib.sha1(b"blob %d\0" % size, usedforsecurity=False)
    for piece in pieces:
        digest.update(piece)
    return digest.hexdigest()


# ---- git -------------------------------------------------------------------------------------------------------------


def _git(place: Path, *arguments: str, given: Iterator[bytes] = iter(())) -> bytes:  # noqa: B008 (it is empty)
    """Run git in a repository, with what it is given. StoreError with what it said when it ends otherwise than well."""
    environment = {
        **small_environment(),
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_SSH_COMMAND": "ssh -oBatchMode=yes",
        "LC_ALL": "C",
    }
    program = shutil.which("git")
    if program is None:
        raise OutsideError("there is no git on this machine", hint="install it, or copy in another way")
    command = [program, "--git-dir", str(place), *arguments]
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        running = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=out, stderr=err, env=environment)
        try:
            _give(running, given)
            code = running.wait(_LIMIT_S)
        except subprocess.TimeoutExpired as exc:
            message = f"{place}: git {arguments[0]} did not end within {_LIMIT_S}s"
            raise StoreError(message, hint="run it by hand; does it ask for something?") from exc
        finally:
            running.kill()
            running.wait()
        for file in (out, err):
            file.seek(0)
        if code:
            said = err.read().decode("utf-8", "replace").strip().splitlines()
            why = next((line for line in said if line.startswith(("fatal:", "error:", " !"))), "".join(said[:1]))
            raise StoreError(
                f"{place}: git {arguments[0]}: {why.strip() or 'failed'}", hint=_HINTS.get(arguments[0], "")
            )
        return out.read()


def _give(running: "subprocess.Popen[bytes]", given: Iterator[bytes]) -> None:
    assert running.stdin is not None  # noqa: S101 (it is a pipe)
    with suppress(BrokenPipeError):  # it has ended, and will have said why
        for piece in given:
            running.stdin.write(piece)
    with suppress(BrokenPipeError):
        running.stdin.close()


_HINTS = {
    "push": "the commits are in the repository; nothing was forced. Look at what the other side has, then update again",
    "fast-import": "is there room, and nobody else at it? Nothing was changed",
    "fsck": "the repository is damaged: move it away and update again; all of it is made anew",
}


def _make(place: Path, branch: str) -> None:
    """Make the repository where there is nothing. OutsideError when something else is there."""
    if (place / "HEAD").is_file():
        return
    if place.exists() and any(place.iterdir()):
        raise OutsideError(f"{place} is no bare git repository, and not empty", hint="name another folder")
    place.mkdir(mode=0o700, exist_ok=True)
    _git(place, "init", "--quiet", "--bare", f"--initial-branch={branch}")


def _tip(place: Path, branch: str) -> str:
    """The newest commit of the branch; empty where there is none."""
    found = _git(place, "for-each-ref", "--format=%(objectname)", f"refs/heads/{branch}")
    return found.decode().strip()


def _check_ours(place: Path, tip: str, known: str) -> None:
    """OutsideError when the branch is not as it was left: somebody else has been at it."""
    if tip == known:
        return
    between = f"{known}..{tip}" if known else tip
    hint = "look at it with git log; move the repository away, and update again to have it made anew"
    if not tip:
        raise OutsideError(f"{place}: the branch is gone that the copy was in", hint=hint)
    try:
        if known:
            _git(place, "merge-base", "--is-ancestor", known, tip)
        rounds = _git(place, "log", f"--format=%(trailers:key={_ROUND},valueonly,separator=%x20).", between)
    except StoreError as exc:
        raise OutsideError(f"{place}: its history was changed since the last update", hint=hint) from exc
    if any(not line.rstrip(".").strip() for line in rounds.decode().splitlines()):
        raise OutsideError(f"{place}: it holds commits that are not Historon's; nothing was added", hint=hint)


def _last_round(place: Path, tip: str) -> int:
    """The round of the newest commit; 0 where there is none."""
    if not tip:
        return 0
    found = _git(place, "log", "-1", f"--format=%(trailers:key={_ROUND},valueonly)", tip)
    return int(found.decode().strip() or 0)


def _blobs(place: Path, tip: str) -> Mapping[str, str]:
    """The files of a commit, each with the name of its content."""
    if not tip:
        return {}
    found = {}
    for line in _git(place, "ls-tree", "-r", "-z", tip).decode("utf-8", "surrogateescape").split("\0"):
        if line:
            kinds, _, path = line.partition("\t")
            found[path] = kinds.split()[2]
    return found


def _import(place: Path, copy: GitCopy, tip: str, commits: Sequence[_Commit], texts: _Texts) -> None:
    """Add commits behind the tip (git-fast-import(1)): the branch moves once all of them are written."""
    stream = _stream(copy.branch, tip, commits, texts)
    _git(place, "fast-import", "--quiet", "--date-format=raw", "--done", given=stream)


def _stream(branch: str, tip: str, commits: Sequence[_Commit], texts: _Texts) -> Iterator[bytes]:
    for number, commit in enumerate(commits):
        when = b"%d +0000" % int(commit.at.timestamp())
        message = _message(commit, masked=texts.masked)
        yield b"commit refs/heads/%s\n" % branch.encode()
        yield b"author %s %s\ncommitter %s %s\n" % (_WHO, when, _WHO, when)
        yield b"data %d\n%s\n" % (len(message), message)
        if number == 0 and tip:
            yield b"from %s\n" % tip.encode()
        for version in commit.versions:
            yield b"D %s\n" % _quoted(version.source)
            for path, size, pieces in texts.of(version):
                yield b"M 100644 inline %s\ndata %d\n" % (_quoted(path), size)
                yield from pieces
                yield b"\n"
    yield b"done\n"


def _message(commit: _Commit, *, masked: bool) -> bytes:
    lines = [commit.subject, ""]
    lines += [f"{_ROUND}: {commit.round}"]
    lines += [f"{_VERSION}: {version.source}@{version.number}" for version in commit.versions]
    lines += [f"{_MASKED}: secrets are hidden where they are recognised, parts that are no text are left out"] * masked
    return "\n".join(lines).encode()


def _quoted(path: str) -> bytes:
    """A path as fast-import reads it."""
    escaped = path.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return b'"' + escaped.encode("utf-8", "surrogateescape") + b'"'


def _topic(place: Path) -> str:
    return f"git {place}"
