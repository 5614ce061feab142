"""A copy in a git repository: one commit a round, by the real git; what others did there is reported, and never forced.

The repository is bare. A commit's author date is that of its round; trailers name the round and the versions. Versions
of noise alone are left out: they would be all that most nights bring. A source lies in a folder of its name, below one
of its label's value where that is wanted; sources may also have branches by a label.
"""

import hashlib
import re
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Annotated, ClassVar

from msgspec import Meta

from historon.base.errors import OutsideError, StoreError
from historon.copies.checking import check_belongs, store_identity
from historon.copies.interface import Holdings
from historon.copies.rebuilding import Found, UnreadableError, rebuild
from historon.estate import Copy, Estate, small_environment
from historon.store import (
    ESTATE,
    LARGE,
    Copied,
    Damage,
    Outcome,
    State,
    Store,
    Verification,
    Version,
    contradiction,
    digest_of_names,
    lost,
)
from historon.versions import Masks, is_binary

__all__ = ["GitCopy", "fetch", "holdings", "is_there", "update", "verify"]

_LIMIT_S = 300
_OVERLAPPING = 50  # rounds that may have been under way together
_REASONS = 6  # lines of what git says when it fails
_WHO = b"Historon <historon@localhost>"
_NEWS = (Outcome.NEW, Outcome.CHANGED)
_ROUND, _VERSION, _MASKED, _STORE = "Historon-Round", "Historon-Version", "Historon-Masked", "Historon-Store"
_FOLDERS = "Historon-Folders"
_SSH = "core.sshcommand"  # in the repository's own configuration (git-config(1)), where a key can be named too
_IN = " in "  # a version's trailer says in which folder it lies, where that is not called as its source is


class GitCopy(Copy, frozen=True, kw_only=True):
    """`kind = "git"`: a bare git repository, one commit a round.

    Sources lie in folders by the value of the label `folders_by`, and on branches by that of `branches_by`; those
    without that label are on `branch`.
    """

    kind: ClassVar[str] = "git"

    branch: Annotated[str, Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")] = "main"
    branches_by: str | None = None
    folders_by: str | None = None
    masked: bool = False
    remote_update: str | None = None

    def __post_init__(self) -> None:
        """What git would take for one of its options is none of a remote's names."""
        if self.remote_update is not None and self.remote_update.startswith("-"):
            raise ValueError("remote_update is the address, or the name, of a remote repository")

    @property
    def labels(self) -> tuple[str, ...]:
        return tuple(filter(None, (self.branches_by, self.folders_by)))


@dataclass(frozen=True)
class _Commit:
    """What one commit brings: versions that take the place of what their sources had, and folders that go."""

    at: datetime
    subject: str
    round: int
    versions: Sequence[Version]
    gone: Sequence[str] = ()


def is_there(copy: GitCopy, estate: Estate) -> bool | None:
    """See CopyModule."""
    return (estate.path(copy.path) / "HEAD").is_file()


def update(copy: GitCopy, estate: Estate, store: Store, _now: datetime, damaged: Sequence[Damage]) -> Copied:
    """See CopyModule. The commits of a branch come at once, or none. What is damaged cannot be mended in place."""
    place, changes = estate.path(copy.path), store.change_number()
    texts = _Texts(copy, estate, store)
    if damaged and is_there(copy, estate):
        hint = "move the repository away and update again: it is made again from the store"
        raise StoreError(f"{place} is damaged and was not changed: {damaged[0]}", hint=hint)
    anew = _make(place, copy.branch)
    latest = _latest(store)
    branches = _branches(copy, estate, store, place, [version.source for version in latest])
    for branch in branches:
        known = store.recall(ESTATE, _topic(place, branch)) or ""
        _check_ours(place, branch, "" if anew else known, store)
        _check_folders(place, branch, copy.folders_by)
        _check_same(place, branch, store, latest, texts)
    for branch in branches:
        tip = _bring_up_to_date(place, branch, store, latest, texts)
        store.remember(ESTATE, _topic(place, branch), tip)
    if copy.remote_update is not None:
        _push(place, copy.remote_update, branches)
    size = sum(file.stat().st_size for file in place.rglob("*") if file.is_file())
    return Copied(len(latest), len(latest), size, changes, left_out=tuple(sorted(texts.left_out)))


def _bring_up_to_date(place: Path, branch: str, store: Store, latest: Sequence[Version], texts: "_Texts") -> str:
    """Commit what rounds brought to the sources of a branch, then what is still not as the store has it.

    Returns the newest commit of the branch.
    """
    tip = _tip(place, branch)
    brought = _last_brought(place, tip) if tip else {}
    commits = [*_rounds_after(store, _last_round(place, tip), brought, texts.branch_of, branch)]
    if commits:
        tip = _import(place, branch, tip, commits, texts)
    blobs = _blobs(place, tip)
    differing = _differing(texts.of_branch(branch, latest), blobs, texts)
    gone = _gone(branch, blobs, latest, texts)
    if differing or gone:
        # Of what no round brought: a version that was vouched for, masks or labels that are others now.
        at = max(version.at for version in (differing or latest))
        commit = _Commit(at, "as the store is now", _last_round(place, tip), differing, gone)
        tip = _import(place, branch, tip, [commit], texts)
    return tip


def fetch(copy: GitCopy, estate: Estate, folder: Path) -> list[Damage]:
    """See CopyModule: the versions that commits brought, with the instants of their rounds."""
    place = estate.path(copy.path)
    if copy.masked or _git(place, "log", "--branches", "-1", f"--grep=^{_MASKED}: ", "--format=%H").strip():
        message = f"{place}: the secrets in this repository are masked, so no version in it is complete"
        raise OutsideError(message, hint="rebuild the store from another copy")

    def read(blob: str) -> bytes:
        try:
            return _git(place, "cat-file", "blob", blob)
        except StoreError as exc:
            raise UnreadableError(f"object {blob} is damaged") from exc

    found, lost = _committed(place)
    return lost + rebuild(folder, sorted(found.values(), key=lambda one: one.at), read)


def _committed(place: Path) -> tuple[dict[str, Found], list[Damage]]:
    """The versions that commits brought, by `SOURCE@NUMBER`, the first commit that did; and those that are damaged."""
    form = f"--format=%H%x1f%aI%x1f%(trailers:key={_VERSION},valueonly,separator=%x1f)"
    versions: dict[str, Found] = {}
    lost = []
    for line in _git(place, "log", "--reverse", "--branches", form).decode().splitlines():
        commit, at, *brought = line.split("\x1f")
        try:
            blobs = _blobs(place, commit) if any(brought) else {}
        except StoreError:
            named = [one.partition(_IN)[0].rpartition("@") for one in brought if one]
            lost += [Damage(source, int(number), "", f"commit {commit} is damaged") for source, _, number in named]
            continue
        for version, _, home in (one.partition(_IN) for one in brought if one):
            source = version.rpartition("@")[0]
            prefix = f"{home or source}/"
            parts = {path.removeprefix(prefix): blob for path, blob in blobs.items() if path.startswith(prefix)}
            versions.setdefault(version, Found(source, datetime.fromisoformat(at), parts))
    return versions, lost


def is_newer(copy: GitCopy, estate: Estate, store: Store, *, ask: bool) -> bool | None:
    """See CopyModule."""
    if not ask:
        return None
    if not is_there(copy, estate):
        return False
    place = estate.path(copy.path)
    tips = _git(place, "for-each-ref", "--format=%(objectname)", "refs/heads").decode().split()
    rounds = store.rounds(1)
    return any(_last_round(place, tip) > (rounds[0].number if rounds else 0) for tip in tips)


def holdings(copy: GitCopy, estate: Estate, _store: Store) -> Holdings:
    """See CopyModule. Masked versions are held in another form."""
    place = estate.path(copy.path)
    versions, _ = _committed(place)
    hexes = {} if copy.masked else _sha256_of(place, {blob for one in versions.values() for blob in one.parts.values()})
    digests: dict[str, dict[int, bytes | None]] = {}
    for name, one in versions.items():
        known = {part: hexes[blob] for part, blob in one.parts.items() if blob in hexes}
        whole = digest_of_names(known) if len(known) == len(one.parts) else None
        digests.setdefault(one.source, {})[int(name.rpartition("@")[2])] = whole
    said = _git(place, "log", "-1", "--branches", f"--format=%(trailers:key={_STORE},valueonly)").decode().strip()
    return Holdings(said, digests)


def _sha256_of(place: Path, blobs: Iterable[str]) -> dict[str, str]:
    """The SHA-256 in hex of what these objects hold, by their names; of those that can be read."""
    found = {}
    for blob in sorted(blobs):
        with suppress(StoreError):
            found[blob] = hashlib.sha256(_git(place, "cat-file", "blob", blob)).hexdigest()
    return found


def _check_same(place: Path, branch: str, store: Store, latest: Sequence[Version], texts: "_Texts") -> None:
    """RefusedError where the newest commit holds, as a version that the store has too, something else."""
    tip = _tip(place, branch)
    if not tip or texts.masked:
        return  # what is masked follows the masks, and shows nothing of what is under them
    there = texts.homes(_blobs(place, tip))
    differing = [one for one in texts.of_branch(branch, latest) if texts.differ(one, there)]
    if not differing:
        return
    brought = _last_brought(place, tip)
    for version in differing:
        number = brought.get(version.source)
        if number is None or not there.get(texts.home_of(version.source)):
            continue
        then = store.version(version.source, number)
        if then is not None and then.state is State.GOOD and texts.differ(then, there):
            raise contradiction(place, version.source, number)


def _last_brought(place: Path, commits: str) -> dict[str, int]:
    """The number of the version of each source that these commits brought last."""
    form = f"--format=%(trailers:key={_VERSION},valueonly,separator=%x1f)"
    found: dict[str, int] = {}
    for line in _git(place, "log", form, commits).decode().splitlines():
        for told in filter(None, line.split("\x1f")):
            source, _, number = told.partition(_IN)[0].rpartition("@")
            found.setdefault(source, int(number))
    return found


def verify(copy: GitCopy, estate: Estate, store: Store, _sample: int | None, _settings: str) -> Verification:
    """See CopyModule. Git checks all its objects; the newest commits are compared with the last good versions."""
    place = estate.path(copy.path)
    found = Verification()
    try:
        _git(place, "fsck", "--no-dangling", "--no-progress")
    except StoreError as exc:
        found.ledger.append(exc.message)
        return found
    texts = _Texts(copy, estate, store)
    latest = _latest(store)
    found.sources = found.versions = len(latest)
    for branch in _branches(copy, estate, store, place, [version.source for version in latest]):
        there = _blobs(place, _tip(place, branch))
        found.contents += len(there)
        for version in _differing(texts.of_branch(branch, latest), there, texts):
            found.damages.append(Damage(version.source, version.number, "", "the newest commit has another content"))
    return found


class _Texts:
    """The contents of versions as they are committed."""

    def __init__(self, copy: GitCopy, estate: Estate, store: Store) -> None:
        self._copy, self._estate, self._store = copy, estate, store
        self.masked, self.folders_by = copy.masked, copy.folders_by
        self.left_out: set[str] = set()
        self.identity = store_identity(store)
        self._blobs: dict[tuple[str, int], dict[str, str]] = {}

    def branch_of(self, source: str) -> str:
        """The branch that a source is committed to."""
        return _branch_of(self._copy, self._estate, source)

    def of_branch(self, branch: str, versions: Iterable[Version]) -> list[Version]:
        """Those of these versions that are committed to a branch."""
        return [version for version in versions if self.branch_of(version.source) == branch]

    def home_of(self, source: str) -> str:
        """The folder that a source lies in."""
        if self.folders_by is None:
            return source
        return f"{_value_of(self._estate, source, self.folders_by) or f'no-{self.folders_by}'}/{source}"

    def homes(self, blobs: Mapping[str, str]) -> dict[str, dict[str, str]]:
        """The files of a commit by the folders of sources that they lie in."""
        deep = 1 if self.folders_by is None else 2
        found: dict[str, dict[str, str]] = {}
        for path, blob in blobs.items():
            found.setdefault("/".join(path.split("/")[:deep]), {})[path] = blob
        return found

    def differ(self, version: Version, there: Mapping[str, Mapping[str, str]]) -> bool:
        """Whether a version is not what is committed of its source, by the folders of a commit."""
        key = version.source, version.number
        if key not in self._blobs:  # asked before anything is committed, and then again
            self._blobs[key] = {path: _blob_of(size, pieces) for path, size, pieces in self.of(version)}
        return self._blobs[key] != there.get(self.home_of(version.source), {})

    def of(self, version: Version) -> Iterator[tuple[str, int, Iterator[bytes]]]:
        """The files of a version: paths below the repository, their sizes, and what they hold, a piece at a time."""
        masks = self._masks(version.source) if self.masked else None
        for part in self._store.parts(version.source, version.number):
            path = f"{self.home_of(version.source)}/{part.name}"
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


def _branch_of(copy: GitCopy, estate: Estate, source: str) -> str:
    """The branch of a source: its label's value, or the copy's own branch where it has none."""
    value = _value_of(estate, source, copy.branches_by) if copy.branches_by else ""
    return value or copy.branch


def _value_of(estate: Estate, source: str, label: str) -> str:
    """What a source's label says, as a name that folders and branches may have; empty where it says nothing."""
    known = estate.sources.get(source)
    if known:
        return re.sub(r"[^A-Za-z0-9_-]+", "-", known.labels.get(label, "")).strip("-")
    return ""


def _branches(copy: GitCopy, estate: Estate, store: Store, place: Path, sources: Iterable[str]) -> list[str]:
    """The branches that sources belong to, and those that they did when they were last written."""
    wanted = {_branch_of(copy, estate, source) for source in sources} or {copy.branch}
    if copy.branches_by is not None:
        there = _git(place, "for-each-ref", "--format=%(refname:lstrip=2)", "refs/heads/").decode().split()
        wanted.update(one for one in there if store.recall(ESTATE, _topic(place, one)))
    return sorted(wanted)


def _rounds_after(
    store: Store, last: int, known: Mapping[str, int], branch_of: Callable[[str], str], branch: str
) -> Iterator[_Commit]:
    """What rounds brought to the sources of a branch and is not there yet, in their order; without what was pruned.

    `last` is the round of the newest commit. One that began before it may have gone on for longer, so what is `known`
    of each source says what is there.
    """
    for one in reversed(store.rounds(10**9)):
        if one.number <= last - _OVERLAPPING:
            continue
        brought = [
            (visit.source, visit.number)
            for visit in store.visits(one.number)
            if visit.outcome in _NEWS and visit.number is not None and branch_of(visit.source) == branch
            if visit.number > known.get(visit.source, 0)
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
    there = texts.homes(blobs)
    return [version for version in latest if texts.differ(version, there)]


def _gone(branch: str, blobs: Mapping[str, str], latest: Sequence[Version], texts: _Texts) -> list[str]:
    """The folders of sources that lie elsewhere now: in another folder, or on another branch.

    What the store no longer knows stays: nothing is there to take its place.
    """
    known = {version.source for version in latest}
    gone = []
    for home in sorted(texts.homes(blobs)):
        source = home.rpartition("/")[2]
        if source in known and (texts.branch_of(source), texts.home_of(source)) != (branch, home):
            gone.append(home)
    return gone


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
        "LC_ALL": "C",
    }
    program = shutil.which("git")
    if program is None:
        raise OutsideError("there is no git on this machine", hint="install it, or use another kind of copy")
    command = [program, "--git-dir", str(place), *arguments]
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        running = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=out, stderr=err, env=environment)
        try:
            _give(running, given)
            code = running.wait(_LIMIT_S)
        except subprocess.TimeoutExpired as exc:
            message = f"{place}: git {arguments[0]} did not end within {_LIMIT_S}s"
            raise StoreError(message, hint="run it by hand; does it ask a question?") from exc
        finally:
            running.kill()
            running.wait()
        for file in (out, err):
            file.seek(0)
        if code:
            said = err.read().decode("utf-8", "replace").strip().splitlines()
            telling = [line.strip() for line in said if line.startswith(("fatal:", "error:", " !", "remote:"))]
            why = "; ".join((telling or [line.strip() for line in said])[:_REASONS])
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
    "push": "the commits are in the repository; nothing was forced. Compare it with the remote, then update again",
    "fast-import": "check the free space, and that no other program uses it. Nothing was changed",
    "fsck": "the repository is damaged: move it away and update again; it is made again from the store",
}


def _make(place: Path, branch: str) -> bool:
    """Make the repository where there is nothing, and say whether. OutsideError when something else is there."""
    if (place / "HEAD").is_file():
        return False
    if place.exists() and any(place.iterdir()):
        raise OutsideError(f"{place} is not a bare git repository, and not empty", hint="name another folder")
    try:
        place.mkdir(mode=0o700, exist_ok=True)
    except OSError as exc:
        raise StoreError(f"{place}: {exc.strerror}", hint="check that it is mounted, and writable") from exc
    _git(place, "init", "--quiet", "--bare", f"--initial-branch={branch}")
    return True


def _tip(place: Path, branch: str) -> str:
    """The newest commit of the branch; empty where there is none."""
    found = _git(place, "for-each-ref", "--format=%(objectname)", f"refs/heads/{branch}")
    return found.decode().strip()


def _check_ours(place: Path, branch: str, known: str, store: Store) -> None:
    """OutsideError when the branch is not as it was left: somebody else has been at it.

    RefusedError when what is there was committed for another store.
    """
    tip = _tip(place, branch)
    if tip:
        said = _git(place, "log", "-1", f"--format=%(trailers:key={_STORE},valueonly)", tip).decode().strip()
        if said or not known:  # an earlier Historon did not say it; then the commit is one of ours
            check_belongs(str(place), said, "", store)
    if tip == known:
        return
    between = f"{known}..{tip}" if known else tip
    hint = "look at it with git log; move the repository away, and update again: it is made again"
    if not tip:
        raise OutsideError(f"{place}: the copy's branch {branch} is missing", hint=hint)
    try:
        if known:
            _git(place, "merge-base", "--is-ancestor", known, tip)
        rounds = _git(place, "log", f"--format=%(trailers:key={_ROUND},valueonly,separator=%x20).", between)
    except StoreError as exc:
        raise OutsideError(f"{place}: its history was changed since the last update", hint=hint) from exc
    if any(not line.rstrip(".").strip() for line in rounds.decode().splitlines()):
        raise OutsideError(f"{place}: it has commits that are not Historon's; nothing was added", hint=hint)
    for source, number in sorted(_last_brought(place, between).items()):
        removed = {one.number for one in store.removed(source)}
        if store.version(source, number) is None and number not in removed:
            raise lost(place, f"has {source}@{number}, which the store lacks")


def _check_folders(place: Path, branch: str, folders_by: str | None) -> None:
    """OutsideError when the folders of the branch follow another label, or none: they would be taken for sources."""
    tip = _tip(place, branch)
    if not tip:
        return
    found = _git(place, "log", "-1", f"--format=%(trailers:key={_FOLDERS},valueonly)", tip).decode().strip() or None
    if found != folders_by:
        was = f"by the label {found}" if found else "by no label"
        raise OutsideError(f"{place}: its folders are {was}", hint="leave folders_by as it was, or name another folder")


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


def _push(place: Path, remote: str, branches: Sequence[str]) -> None:
    """Push the branches that there are; one that the other side does not take is reported, and nothing is forced."""
    heads = [f"refs/heads/{branch}" for branch in branches if _tip(place, branch)]
    if not heads:
        return
    if _SSH not in _git(place, "config", "--list", "--local", "--name-only").decode().split("\n"):
        _git(place, "config", _SSH, "ssh -oBatchMode=yes")  # nobody is there to answer its questions
    _git(place, "push", "--quiet", remote, *heads)


def _import(place: Path, branch: str, tip: str, commits: Sequence[_Commit], texts: _Texts) -> str:
    """Add commits behind the tip (git-fast-import(1)), and return the new one.

    The branch moves once all of them are written.
    """
    stream = _stream(branch, tip, commits, texts)
    before = _half_written(place)
    try:
        _git(place, "fast-import", "--quiet", "--date-format=raw", "--done", given=stream)
    except StoreError:
        for file in _half_written(place) - before:  # on a full disk they would be all that is left of it
            file.unlink(missing_ok=True)
        raise
    return _tip(place, branch)


def _half_written(place: Path) -> set[Path]:
    """What an import leaves behind that was broken off; also that of others, who may be at it."""
    return {*place.glob("objects/pack/tmp_*"), *place.glob("fast_import_crash_*")}


def _stream(branch: str, tip: str, commits: Sequence[_Commit], texts: _Texts) -> Iterator[bytes]:
    for number, commit in enumerate(commits):
        when = b"%d +0000" % int(commit.at.timestamp())
        message = _message(commit, texts)
        yield b"commit refs/heads/%s\n" % branch.encode()
        yield b"author %s %s\ncommitter %s %s\n" % (_WHO, when, _WHO, when)
        yield b"data %d\n%s\n" % (len(message), message)
        if number == 0 and tip:
            yield b"from %s\n" % tip.encode()
        for home in commit.gone:
            yield b"D %s\n" % _quoted(home)
        for version in commit.versions:
            yield b"D %s\n" % _quoted(texts.home_of(version.source))
            for path, size, pieces in texts.of(version):
                yield b"M 100644 inline %s\ndata %d\n" % (_quoted(path), size)
                yield from pieces
                yield b"\n"
    yield b"done\n"


def _message(commit: _Commit, texts: _Texts) -> bytes:
    lines = [commit.subject, ""]
    lines += [f"{_STORE}: {texts.identity}", f"{_ROUND}: {commit.round}"]
    for version in commit.versions:
        home = texts.home_of(version.source)
        where = f"{_IN}{home}" if home != version.source else ""
        lines.append(f"{_VERSION}: {version.source}@{version.number}{where}")
    if texts.folders_by is not None:
        lines.append(f"{_FOLDERS}: {texts.folders_by}")
    if texts.masked:
        lines.append(f"{_MASKED}: recognised secrets are masked, and binary parts are left out")
    return "\n".join(lines).encode()


def _quoted(path: str) -> bytes:
    """A path as fast-import reads it."""
    escaped = path.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return b'"' + escaped.encode("utf-8", "surrogateescape") + b'"'


def _topic(place: Path, branch: str) -> str:
    return f"git {place} {branch}"
