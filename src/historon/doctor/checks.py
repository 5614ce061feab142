"""Looking for what will go wrong before it does: secrets, files, disks, programs, accounts, names that nobody uses."""

import os
import shutil
import stat
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from historon.base.errors import HistoronError
from historon.base.quantities import for_people
from historon.collect.failures import CollectError
from historon.collect.preconditions import check_needs, check_preconditions
from historon.collect.transports.drop_folder import strangers
from historon.estate import (
    ENVIRONMENT_FILE,
    Credentials,
    Estate,
    Keeping,
    Pattern,
    Procedure,
    SecretError,
    SecretRef,
    Source,
    describe,
    environment_secrets,
    fill,
    temporary_places,
    values_of,
    walk,
)
from historon.insight import GRAVE, Weights
from historon.store import LARGE, Store
from historon.versions import Masks, is_binary, random_words, split_lines

__all__ = ["Finding", "examine"]

# The scheduler's PATH is as short as this (crontab(5), systemd.exec(5)).
_SHORT_PATH = "/usr/local/bin:/usr/bin:/bin:/usr/local/sbin:/usr/sbin:/sbin"
_TELLING = {"admin", "administrator", "root", "superuser", "sysadmin", "manager", "enable"}
_OPEN = 0o077
_NAMED = 3  # lines with a word that looks like a secret
_LONG_WAIT = timedelta(hours=1)
_REPEATED = 5  # times that a last line stands in an export, from which on it says nothing about its end
_FEW = 10  # lines that noise may leave out whatever else there is
_MOST_HIDDEN = 0.5


@dataclass(frozen=True)
class Finding:
    """Something that is `wrong`, or else could be better, and its remedy."""

    wrong: bool
    about: str
    what: str
    remedy: str


def examine(
    estate: Estate, store: Store | HistoronError, *, now: datetime, only: Sequence[Source] | None = None
) -> list[Finding]:
    """Check everything that can be checked without contacting a source; what is wrong comes first.

    `store` is the error instead, where the store cannot be opened: everything else is examined anyway. With `only`
    just these sources are examined, with their procedures and accounts.
    """
    sources = list(estate.sources.values()) if only is None else only
    of_sources = [
        *(() if isinstance(store, HistoronError) else _stored(estate, store, sources, now)),
        *_accounts(estate, only),
        *_procedures(estate, only),
        *_sources(estate, sources),
        *_one_device(estate, sources),
    ]
    found = of_sources if only is not None else [*_of_estate(estate, store, now), *of_sources, *_unused(estate)]
    return sorted(found, key=lambda finding: not finding.wrong)


def _of_estate(estate: Estate, store: Store | HistoronError, now: datetime) -> Iterator[Finding]:
    """What is about the machine, the store and the settings of the whole."""
    yield from _machine(estate)
    yield from _ledger(estate, store, now)
    yield from _files(estate)
    yield from _channels(estate)
    yield from _surroundings(estate)
    yield from _copies(estate)
    yield from _retention(estate)
    yield from _proofs(estate)
    yield from _strangers(estate)


def _stored(estate: Estate, store: Store, sources: Sequence[Source], now: datetime) -> Iterator[Finding]:
    """Of these sources, what they lack, and what their masks do with what is stored."""
    yield from _lacking(estate, store, sources, now)
    yield from _masking(estate, store, sources)


def _machine(estate: Estate) -> Iterator[Finding]:
    if not estate.working_folder.is_dir():
        return  # the store itself is reported
    try:
        check_preconditions(estate)
    except HistoronError as exc:
        yield Finding(True, "store", exc.message, exc.hint)


def _ledger(estate: Estate, store: Store | HistoronError, now: datetime) -> Iterator[Finding]:
    if isinstance(store, HistoronError):
        yield Finding(True, "store", store.message, store.hint)
        return
    last = next(iter(store.rounds(1)), None)
    if last is not None and last.began > now:
        remedy = "set this machine's clock, and keep it right with a time service (NTP)"
        yield Finding(
            True,
            "clock",
            f"the last round began at {for_people(last.began, estate.zone, named=True)}, which is in the future",
            remedy,
        )
    if last is not None and last.ended is None and not store.at_work(last):
        remedy = "historon collect --unfinished"
        yield Finding(False, "rounds", f"round {last.number} did not end", remedy)


def _files(estate: Estate) -> Iterator[Finding]:
    store = estate.store_folder
    for path in (store, *store.iterdir()) if store and store.is_dir() else ():
        if (mode := stat.S_IMODE(path.lstat().st_mode)) & _OPEN:
            yield Finding(True, "store", f"others can read or change {path} (mode {mode:o})", f"chmod go= {path}")
    mode = stat.S_IMODE(estate.file.stat().st_mode)
    if mode & 0o022:
        yield Finding(
            True, "estate file", f"others can change {estate.file} (mode {mode:o})", f"chmod go-w {estate.file}"
        )


def _accounts(estate: Estate, only: Sequence[Source] | None) -> Iterator[Finding]:
    used = None if only is None else {source.credentials for source in only}
    for name, written in estate.credentials.items():
        if used is not None and name not in used:
            continue
        yield from _secrets(f"credentials {name}", _references(written), estate.folder)
        if written.user.lower() in _TELLING:
            remedy = "create a separate account for Historon, which may only read configurations"
            yield Finding(False, f"credentials {name}", f'the account is called "{written.user}"', remedy)
        if written.certificate and not estate.path(written.certificate).is_file():
            message = f"there is no certificate {written.certificate}"
            yield Finding(True, f"credentials {name}", message, "check the path")
        if written.agent and not _has_agent():
            remedy = "start one where the scheduler runs, or use a key by reference"
            yield Finding(True, f"credentials {name}", "no SSH agent can be reached from here", remedy)


def _copies(estate: Estate) -> Iterator[Finding]:
    store = estate.store_folder
    for name, copy in estate.copies.items():
        yield from _absent(f"copy {name}", copy.reads, estate)
        if copy.writes_to is None:
            continue
        place = estate.path(copy.path)
        there = next((one for one in (place, *place.parents) if one.is_dir()), place)
        if _is_in_memory(there.resolve()):
            problem = f"{place} is in memory: it is empty after the machine's next start"
            yield Finding(True, f"copy {name}", problem, "name a folder on a disk, or on another machine")
        if store and store.is_dir() and there.stat().st_dev == store.stat().st_dev:
            remedy = "name a folder on another disk, or mounted from another machine, and its mount"
            problem = f"{place} is on the same disk as the store, and would be lost with it"
            yield Finding(False, f"copy {name}", problem, remedy)


def _is_in_memory(folder: Path) -> bool:
    """Whether a folder is on a file system that is empty after the machine's next start (proc(5), mounts)."""
    try:
        mounts = Path("/proc/self/mounts").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return False
    kinds = {line.split()[1]: line.split()[2] for line in mounts if len(line.split()) > 2}
    place = next((str(one) for one in (folder, *folder.parents) if str(one) in kinds), "")
    return kinds.get(place) in ("tmpfs", "ramfs")


def _hears(estate: Estate, kind: str) -> Iterator[bool]:
    """Of each channel whether it hears of an event, whatever it is about and whenever it happens."""
    for channel in estate.channels.values():
        yield channel.hears(kind) and not channel.where and not channel.hours


def _channels(estate: Estate) -> Iterator[Finding]:
    deaf = [kind for kind in ("store-trouble", "failing", "overdue") if not any(_hears(estate, kind))]
    if estate.channels and deaf:
        remedy = 'give one channel tell = "trouble", without where and hours'
        yield Finding(False, "channels", f"no channel is certain to report {', '.join(deaf)}", remedy)
    for name, channel in estate.channels.items():
        yield from _secrets(f"channel {name}", [one for one in channel.secrets if one], estate.folder)
        yield from _absent(f"channel {name}", channel.reads, estate)
    yield from _longest_waits(estate)
    if estate.settings.heartbeat:
        yield from _secrets("heartbeat", [estate.settings.heartbeat], estate.folder)


def _longest_waits(estate: Estate) -> Iterator[Finding]:
    """How long trouble may wait before each channel sends it."""
    from historon.notices import longest_wait

    for name, channel in estate.channels.items():
        wait = longest_wait(channel, estate) if channel.hears("failing") else None
        if wait is not None and wait >= _LONG_WAIT:
            what = f"a source that fails is reported there up to {describe(wait)} later (digest, hours, quiet)"
            yield Finding(False, f"channel {name}", what, "let another channel report trouble immediately")


def _absent(what: str, reads: Mapping[str, str | None], estate: Estate) -> Iterator[Finding]:
    """The files that settings name and that are not there."""
    for key, file in reads.items():
        if file and not estate.path(file).is_file():
            yield Finding(True, what, f"{key}: there is no file {estate.path(file)}", "correct the path")


def _has_agent() -> bool:
    import asyncio

    import asyncssh

    async def look() -> bool:
        try:
            agent = await asyncssh.connect_agent()
        except (OSError, asyncssh.Error):
            return False
        if agent is None:
            return False
        agent.close()
        return True

    return asyncio.run(look())


def _references(written: Credentials) -> list[SecretRef]:
    return [ref for ref in (written.password, written.key, written.passphrase, written.elevation) if ref]


def _secrets(about: str, references: Iterable[SecretRef], folder: Path) -> Iterator[Finding]:
    for reference in references:
        try:
            reference.resolve(folder)
        except SecretError as exc:
            yield Finding(True, about, exc.message, exc.hint)


def _surroundings(estate: Estate) -> Iterator[Finding]:
    """What a service has only where its unit says so; of estates that one looks after."""
    if not any(source.timetables for source in estate.sources.values()):
        return
    names = environment_secrets(estate)
    if names:
        what = f"secrets are variables of the environment: {', '.join(names)}; a service has only those of its unit"
        remedy = f"write them into {estate.folder / ENVIRONMENT_FILE}, mode 600; historon service-files names it"
        yield Finding(False, "service", what, remedy)
    places = temporary_places(estate)
    if places:
        what = f"{places[0]} is a folder for temporary files: others may write there, and the system empties it"
        yield Finding(False, "service", what, "move it to another folder, such as /srv")


def _retention(estate: Estate) -> Iterator[Finding]:
    if estate.settings.prune or not any(source.retention for source in estate.sources.values()):
        return
    remedy = 'set prune = "after rounds" in [estate], or run historon prune'
    yield Finding(False, "retention", "retention is set, but nothing prunes automatically", remedy)


def _proofs(estate: Estate) -> Iterator[Finding]:
    if not estate.settings.prove and any(estate.procedure_of(one).proof for one in estate.sources.values()):
        remedy = 'set prove = "after rounds" in [estate], or run historon prove'
        yield Finding(False, "proof", "procedures have a proof, but nothing tests versions automatically", remedy)


def _procedures(estate: Estate, only: Sequence[Source] | None) -> Iterator[Finding]:
    used = {source.procedure for source in (estate.sources.values() if only is None else only)}
    for name, procedure in estate.procedures.items():
        if only is not None and name not in used:
            continue
        about = f"procedure {name}"
        if name in used:
            try:
                check_needs(estate, procedure)
            except CollectError as exc:
                yield Finding(True, about, exc.message, exc.hint)
        yield from (Finding(False, about, concern, remedy) for concern, remedy in procedure.concerns.items())
        yield from _programs(about, sorted(procedure.programs), estate.folder)


def _programs(about: str, programs: Iterable[str], folder: Path) -> Iterator[Finding]:
    for program in programs:
        if "{" in program:
            continue
        found = shutil.which(program) if "/" not in program else shutil.which(folder / program)
        if not found:
            message = f"there is no program {program} on this machine"
            yield Finding(True, about, message, "install it, or write its absolute path")
        elif "/" not in program and not shutil.which(program, path=_SHORT_PATH):
            remedy = f"write {os.path.abspath(found)}"
            yield Finding(True, about, f"{program} is not on the short PATH that a scheduler has", remedy)


def _sources(estate: Estate, sources: Sequence[Source]) -> Iterator[Finding]:
    for source in sources:
        procedure = estate.procedure_of(source)
        if source.legacy:
            remedy = "update the device, then remove legacy"
            yield Finding(False, source.name, f"allows old algorithms: {', '.join(source.legacy)}", remedy)
        if procedure.place:
            folder = estate.path(fill(procedure.place, values_of(source, procedure)))
            if not os.access(folder, os.R_OK | os.X_OK):
                yield Finding(True, source.name, f"{folder} is missing or unreadable", "create it; check its mode")


def _strangers(estate: Estate) -> Iterator[Finding]:
    for file in strangers(estate):
        yield Finding(False, "drop folder", f"{file} belongs to no source", "add its source, or remove the file")


def _one_device(estate: Estate, sources: Sequence[Source]) -> Iterator[Finding]:
    """Sources of different addresses that show one host key, or have one certificate pinned: they may be one device."""
    shown: dict[tuple[str, str], dict[str, str]] = defaultdict(dict)  # names of sources, by what they show and address
    known = list(_known_keys(estate.path(estate.settings.known_hosts)))
    for name, source in estate.sources.items():
        if source.identity == "shared":
            continue
        hosts = {source.address, f"[{source.address}]:{source.port}"}
        keys = [key for host, key in known if host in hosts]
        pins = [("host key", pin) for pin in (source.host_key, *keys) if pin]
        pins += [("certificate", source.certificate)] if source.certificate else []
        for pin in pins:
            shown[pin].setdefault(source.address, name)
    asked = {source.name for source in sources}
    for (what, _), names in shown.items():
        if len(names) > 1 and not asked.isdisjoint(names.values()):
            first, *others = sorted(names.values())
            words = f"shows the same {what} as {', '.join(others[:3])}: are they one device, or a device and its clone?"
            yield Finding(False, first, words, 'check their addresses; if sharing is right, set identity = "shared"')


def _known_keys(file: Path) -> Iterator[tuple[str, str]]:
    """The hosts of a known_hosts file (sshd(8)) that it names in the clear, each with its key."""
    try:
        lines = file.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return
    for line in lines:
        fields = line.split()
        if len(fields) >= 3 and not line.startswith(("#", "@", "|")):
            yield from ((host, fields[2]) for host in fields[0].split(","))


def _lacking(estate: Estate, store: Store, asked: Sequence[Source], now: datetime) -> Iterator[Finding]:
    """What sources lack, reported once for all of them."""
    states = store.states()
    sources = [source for source in asked if not estate.is_skipped(source, now)]
    collected = {name for name, state in states.items() if state.good is not None}
    # A source that was tried and failed is among the open conditions, with its reason.
    tried = {name for name, state in states.items() if state.outcome is not None}
    never = [source for source in sources if source.name not in collected | tried]
    unlimited = [source for source in sources if source.max_age is None]
    due = [source for source in sources if not source.timetables and estate.timetables]
    retained = [source for source in sources if source.retention is None]
    for lacking, what, remedy in (
        (never, "never collected", "historon rehearse, then historon collect"),
        (unlimited, "no max_age: missing exports would not be noticed", "add max_age to them, or to [defaults]"),
        (due, "no timetable: only collected by hand", "add timetable to them, or to [defaults]"),
        (retained, "no retention: every version stays", "add retention to them, or to [defaults]"),
    ):
        if lacking:
            more = f" and {len(lacking) - 3} more" if len(lacking) > 3 else ""
            yield Finding(False, ", ".join(one.name for one in lacking[:3]) + more, what, remedy)


def _masking(estate: Estate, store: Store, sources: Sequence[Source]) -> Iterator[Finding]:
    """What the masks of a procedure do with an export of the first of its sources that has one."""
    states = store.states()
    shown: set[str] = set()
    for source in sources:
        good = states[source.name].good if source.name in states else None
        if source.procedure in shown or good is None:
            continue
        shown.add(source.procedure)
        masks = Masks.of(estate.procedure_of(source), key=b"")
        parts = store.parts(source.name, good)
        contents = {part.name: store.read(part) for part in parts if part.size <= LARGE}
        texts = {name: content for name, content in contents.items() if not is_binary(content)}
        yield from _blinding(source, texts, masks)
        yield from _blinding_settings(source, estate.procedure_of(source), texts, masks)
        yield from _unmasked(source, texts, masks)


def _blinding(source: Source, texts: Mapping[str, bytes], masks: Masks) -> Iterator[Finding]:
    """Noise that leaves out most of an export: of what changes there nothing would ever be reported."""
    lines = [line for content in texts.values() for line in split_lines(content) if line.strip()]
    hidden = sum(not (masks.essence(line) or b"").strip() for line in lines)
    if hidden > _FEW and hidden > len(lines) * _MOST_HIDDEN:
        what = f"noise hides {hidden:,} of {len(lines):,} lines of {source.name}: changes in them are not reported"
        remedy = "narrow the masks; see historon noise"
        yield Finding(True, f"procedures {source.procedure}", what, remedy)


def _blinding_settings(
    source: Source, procedure: Procedure, texts: Mapping[str, bytes], masks: Masks
) -> Iterator[Finding]:
    """Masks and marks that see no change, or no end, where it matters."""
    about, weights = f"procedures {source.procedure}", Weights()
    grave = [
        (name, number)
        for name, content in texts.items()
        for number, line in enumerate(split_lines(content), 1)
        if line.strip()
        and masks.essence(line) is None
        and weights.of_line(line.decode("utf-8", "replace")).number >= GRAVE
    ]
    if grave:
        places = ", ".join(f"{name} line {number}" for name, number in grave[:_NAMED])
        more = f" and {len(grave) - _NAMED} more" if len(grave) > _NAMED else ""
        what = f"noise hides lines about access, secrets or routes: {source.name} {places}{more}"
        yield Finding(True, about, what, "narrow its noise: no change in these lines is reported")
    if masks.unordered(b"\x01"):
        yield Finding(True, about, "unordered matches everything: no change of order is reported", "narrow it")
    keeping = [step for _, step in walk(procedure.steps) if isinstance(step, Keeping)]
    if all(step.record_only for step in keeping):
        what = "each of its parts is record_only: no change is reported"
        yield Finding(True, about, what, "remove record_only from the important parts")
    for step in keeping:
        name = step.as_ or str(step.says).rstrip("/").rpartition("/")[2]
        end = step.ends_with
        if end is None or name not in texts:
            continue
        content = texts[name]
        if end.startswith("pattern:"):
            times = sum(1 for _ in Pattern.parse(end.removeprefix("pattern:")).compiled.finditer(content))
        else:
            times = content.count(end.encode())
        if times > _REPEATED:
            what = f"ends_with appears {times} times in {source.name} {name}: an export cut after any of them passes"
            yield Finding(False, about, what, "use a line that appears at the end only")


def _unmasked(source: Source, texts: Mapping[str, bytes], masks: Masks) -> Iterator[Finding]:
    """Words that look like secrets and would be shown; they are known by their place alone."""
    found = [(name, number) for name, content in texts.items() for number in random_words(masks.hide(content))]
    if found:
        places = ", ".join(f"{name} line {number}" for name, number in found[:_NAMED])
        more = f" and {len(found) - _NAMED} more" if len(found) > _NAMED else ""
        what = f"words that look like secrets are not masked: {source.name} {places}{more}"
        remedy = "look at them; add the secret ones to the procedure: secret = ['^that setting (\\S+)']"
        yield Finding(False, f"procedures {source.procedure}", what, remedy)


def _unused(estate: Estate) -> Iterator[Finding]:
    sources = estate.sources.values()
    defaults = estate.defaults
    used: dict[str, set[str | None]] = {
        "procedures": {defaults.procedure, *(source.procedure for source in sources)},
        "retention": {
            defaults.retention,
            *(source.retention for source in sources),
            *(copy.own_retention for copy in estate.copies.values()),
        },
        "timetables": {
            *defaults.timetables,
            *(name for source in sources for name in source.timetables),
            *(channel.digest for channel in estate.channels.values()),
            estate.settings.prune,
            estate.settings.prove,
        },
        "jumps": {source.via for source in sources},
        "credentials": {
            defaults.credentials,
            *(source.credentials for source in sources),
            *(jump.credentials for jump in estate.jumps.values()),
            *(channel.account for channel in estate.channels.values()),
            *(copy.account for copy in estate.copies.values()),
        },
    }
    for table, names in used.items():
        for name in getattr(estate, table):
            if name not in names:
                yield Finding(False, f"{table} {name}", "nothing uses it", "remove it, or name it in a source")
