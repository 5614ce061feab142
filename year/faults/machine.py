"""What goes wrong around Historon, or with itself: its process, its clock, its disk, its file, and those it tells."""

import re
import shutil
import sqlite3
from collections.abc import Callable, Sequence
from datetime import datetime, time, timedelta
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, ClassVar

from year.disks import Disk
from year.faults import Disturbance
from year.program import Armed

if TYPE_CHECKING:
    from year.play import Play

__all__ = ["DISTURBANCES"]

_Stops = Sequence[tuple[datetime, Callable[[], None]]]
_ROUND = time(2, 30)


# ---- its process -----------------------------------------------------------------------------------------------------


class KilledAtStep(Disturbance):
    """kill -9 at some step of the night's round that changes what is on disk."""

    kind = "killed at a step"
    deadly = True
    armed = True

    def begin_night(self, play: "Play") -> None:
        play.program.armed = Armed(play.at(_ROUND), step=self.rng.randrange(9 * len(play.sources)))


class KilledAtTurn(Disturbance):
    """kill -9 between any two things of the night's round."""

    kind = "killed at a turn"
    deadly = True
    armed = True

    def begin_night(self, play: "Play") -> None:
        play.program.armed = Armed(play.at(_ROUND), turn=self.rng.randrange(15 * len(play.sources)))


class KilledAndDown(Disturbance):
    """kill -9 in the middle of the round, and nobody starts it again before noon."""

    kind = "killed, and down until noon"
    deadly = True

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(2, self.rng.randrange(31, 59))), lambda: self._die(play))]

    def _die(self, play: "Play") -> None:
        if play.program.runs:
            play.program.kill()
        play.night.down, play.night.visits = True, (0, 1)

    def end(self, play: "Play") -> None:
        play.put_off.append(lambda: self._again(play))

    def _again(self, play: "Play") -> None:
        play.night.visits = (1, 2)
        play.night.may.add("service-died")
        play.begin_service()


class Down(Disturbance):
    """The service is stopped at noon, and started again at the noon after the night."""

    kind = "down for a night"

    def begin_night(self, play: "Play") -> None:
        play.end_service()
        play.night.down, play.night.visits = True, (0, 0)

    def end(self, play: "Play") -> None:
        play.put_off.append(lambda: self._again(play))

    def _again(self, play: "Play") -> None:
        play.night.visits = (2, 2)
        play.night.may |= {"copy-behind", "copy-well"}
        play.begin_service()


class DownForLong(Down):
    """The same for three nights."""

    kind = "down for three nights"
    nights = 3


class Restarted(Disturbance):
    """SIGTERM in the middle of the round, and started again ten minutes later."""

    kind = "restarted in the middle"

    def stops(self, play: "Play") -> _Stops:
        minute = self.rng.randrange(31, 58)
        return [
            (play.at(time(2, minute)), play.end_service),
            (play.at(time(2, minute)) + timedelta(minutes=10), play.begin_service),
        ]


class SecondService(Disturbance):
    """Somebody starts a second one while the first is at it."""

    kind = "a second service"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(2, self.rng.randrange(25, 59))), lambda: self._start(play))]

    @staticmethod
    def _start(play: "Play") -> None:
        if not play.program.runs or (play.home.parent / "aside").exists():
            return  # of another store it is the first
        code, _, err = play.ask("serve", "--once")
        if play.is_odd(code, 6) and play.program.runs:
            play.find("double", "the service", f"a second one ended with {code}: {err[-200:]}")


# ---- somebody at the keyboard ----------------------------------------------------------------------------------------


class ByHand(Disturbance):
    """Somebody collects from some sources, while a round runs or in the afternoon."""

    kind = "collected by hand"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        at = self.rng.choice([time(15), time(2, self.rng.randrange(31, 59))])
        near = [one.name for one in play.sources.values() if one.post.transport == "file"]
        names = self.rng.sample(near, min(3, len(near)))
        return [(play.at(at), lambda: self._collect(play, names))]

    @staticmethod
    def _collect(play: "Play", names: Sequence[str]) -> None:
        if (play.home.parent / "aside").exists():
            return  # somebody who made another store there collects into that one
        play.night.by_hand |= set(names)
        code, _, err = play.ask("collect", *names)
        if play.is_odd(code, 0, 3, 5, 6):
            play.find("defect", "collect", f"it ended with {code}: {err[-300:]}")


class KilledByHand(Disturbance):
    """The same, and it is killed at some step."""

    kind = "killed while collecting by hand"

    def stops(self, play: "Play") -> _Stops:
        near = [one.name for one in play.sources.values() if one.post.transport == "file"]
        names = self.rng.sample(near, min(3, len(near)))
        return [(play.at(time(16)), lambda: self._collect(play, names))]

    def _collect(self, play: "Play", names: Sequence[str]) -> None:
        play.night.by_hand |= set(names)
        play.night.may.add("store-trouble")
        play.program.command(["collect", *names], play.now, dying_at=self.rng.randrange(60))


class Pruned(Disturbance):
    """Somebody prunes, now and then while a round runs."""

    kind = "pruned by hand"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        at = self.rng.choice([time(14), time(2, self.rng.randrange(31, 59))])
        return [(play.at(at), lambda: self._prune(play))]

    @staticmethod
    def _prune(play: "Play") -> None:
        code, _, err = play.ask("prune", "--yes")
        if play.is_odd(code, 0, 6):
            play.find("defect", "prune", f"it ended with {code}: {err[-300:]}")


class KilledPruning(Disturbance):
    """The same, and it is killed at some step."""

    kind = "killed while pruning"

    def stops(self, play: "Play") -> _Stops:
        return [
            (play.at(time(14)), lambda: self._prune(play, self.rng.randrange(40))),
            (play.at(time(14, 30)), lambda: Pruned._prune(play)),
        ]

    @staticmethod
    def _prune(play: "Play", step: int) -> None:
        play.program.command(["prune", "--yes"], play.now, dying_at=step)


class Restored(Disturbance):
    """Somebody restores a version of each of some sources, and gets what was there."""

    kind = "restored by hand"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        names = self.rng.sample([*play.sources], min(4, len(play.sources)))
        return [(play.at(time(17)), lambda: self._restore(play, names))]

    @staticmethod
    def _restore(play: "Play", names: Sequence[str]) -> None:
        for name in names:
            number, parts = play.judge.last_good(name)
            if number is None:
                continue
            target = play.home.parent / "restored"
            code, _, err = play.ask("restore", f"{name}@{number}", "--to", str(target))
            if code in (4, 5) and not play.is_odd(code):
                continue
            found = {str(file.relative_to(target)): file.read_bytes() for file in target.rglob("*") if file.is_file()}
            if code != 0 or {key: value for key, value in found.items() if not key.endswith(".tree")} != parts:
                play.find(
                    "loss", name, f"@{number} was not restored as it was: {code} {err[-200:]} {sorted(found)[:3]}"
                )
            shutil.rmtree(target, ignore_errors=True)


class RestoredOver(Disturbance):
    """Trees are restored where they were, while a link that leads elsewhere is in the place of one of their folders.

    Either what was there is there again, byte for byte, or it is refused; what the link leads to stays as it is.
    """

    kind = "restored over the originals"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        names = [name for name, one in play.sources.items() if one.post.transport == "tree"]
        return [(play.at(time(17, 30)), lambda: self._restore_all(play, names))]

    def _restore_all(self, play: "Play", names: Sequence[str]) -> None:
        for name in names:
            self._restore(play, name)

    def _restore(self, play: "Play", name: str) -> None:
        tree, elsewhere = play.home / "data" / name / "tree", play.home.parent / "elsewhere"
        number, parts = play.judge.last_good(name)
        if number is None or not parts or not (tree / "ports").is_dir():
            return
        aside = tree.with_name("aside")
        shutil.copytree(tree, aside)
        files = sorted((tree / "ports").iterdir())
        self.rng.choice(files).unlink()
        (tree / "main.cfg").write_bytes(b"by somebody\n")
        self._judge(play, name, number, parts, beside=False)
        shutil.copytree(tree / "ports", elsewhere)
        for file in elsewhere.iterdir():
            file.write_bytes(b"of somebody else\n")
        shutil.rmtree(tree / "ports")
        (tree / "ports").symlink_to(elsewhere)
        self._judge(play, name, number, parts, beside=True)
        if any(file.read_bytes() != b"of somebody else\n" for file in elsewhere.iterdir()):
            play.find("loss", name, "restoring it wrote through a link")
        shutil.rmtree(elsewhere)
        shutil.rmtree(tree)
        aside.rename(tree)

    @staticmethod
    def _judge(play: "Play", name: str, number: int, parts: dict[str, bytes], *, beside: bool) -> None:
        """What it says against what is there; with a link `beside` it may be refused."""
        code, out, err = play.ask("restore", f"{name}@{number}", "--over-originals", "--yes")
        if code != 0 and (beside or not play.is_odd(code)):
            return
        tree = play.home / "data" / name
        files = {key: tree / key for key in parts if not key.endswith(".tree")}
        wrong = [key for key, file in files.items() if not file.is_file() or file.read_bytes() != parts[key]]
        if code != 0 or wrong or (tree / "tree" / "ports").is_symlink():
            play.find("loss", name, f"@{number} did not come back: {code} {wrong[:3]} {out[-200:]} {err[-200:]}")


class Looked(Disturbance):
    """Somebody looks at everything; no secret may be seen, and nothing may go wrong."""

    kind = "looked at"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        return [
            (play.at(time(2, self.rng.randrange(25, 59))), lambda: self._look(play)),
            (play.at(time(9)), lambda: self._look(play)),
        ]

    def _look(self, play: "Play") -> None:
        name = self.rng.choice([*play.sources])
        for words in (
            ["changes", "--since", "3d"],
            ["diff", name],
            ["show", name],
            ["versions", name],
            ["rounds"],
            ["agenda"],
            ["find", "berth-1"],
            ["trace", name, "hostname"],
            ["noise", name],
            ["notices", "--history"],
            ["sources"],
            ["copies"],
            ["verify", name],
        ):
            code, _, err = play.ask(*words)
            if play.is_odd(code, 0, 1, 2):
                play.find("defect", " ".join(words), f"it ended with {code}: {err[-300:]}")


# ---- its clock -------------------------------------------------------------------------------------------------------


class ClockWrong(Disturbance):
    """The machine's clock is wrong for a night, and set right at noon."""

    kind: ClassVar[str] = "the clock goes back"
    by: ClassVar[timedelta] = -timedelta(hours=3)

    def begin_night(self, play: "Play") -> None:
        play.program.skew = self.by
        play.night.unsure, play.night.visits = True, (0, 2)
        play.night.may |= {"copy-behind", "copy-well"}

    def end(self, play: "Play") -> None:
        play.program.skew = timedelta()
        play.put_off.append(lambda: self._right(play))

    @staticmethod
    def _right(play: "Play") -> None:
        play.night.unsure, play.night.visits = True, (0, 2)
        play.night.may |= {"copy-behind", "copy-well"}


class ClockForward(ClockWrong):
    """It goes forward by two days."""

    kind = "the clock goes forward"
    by = timedelta(days=2)


# ---- its disk --------------------------------------------------------------------------------------------------------


class DiskTrouble(Disturbance):
    """The store's disk takes nothing for some hours of the night."""

    kind: ClassVar[str] = "the disk is full"
    disk: ClassVar[Disk] = Disk.FULL
    must: ClassVar[list[set[str]]] = [{"collecting-blocked"}, {"disk-low"}]
    may: ClassVar[set[str]] = {"store-trouble", "disk-well", "collecting-again"}
    from_: ClassVar[time] = time(2, 5)

    def begin_night(self, play: "Play") -> None:
        play.night.blocked, play.night.visits = True, (1, 90)
        play.night.must += self.must
        play.night.may |= self.may

    def stops(self, play: "Play") -> _Stops:
        begins = play.at(self.from_)  # a night may lack an hour
        return [
            (begins, lambda: self._be(play, self.disk)),
            (begins + timedelta(minutes=80), lambda: self._be(play, Disk.WELL)),
        ]

    @staticmethod
    def _be(play: "Play", disk: Disk) -> None:
        play.program.disk = disk


class DiskFilling(DiskTrouble):
    """It fills up in the middle of the round."""

    kind = "the disk fills up"
    disk = Disk.FILLING
    must: ClassVar[list[set[str]]] = []  # where all was collected before, nothing is amiss
    may: ClassVar[set[str]] = {"store-trouble", "collecting-blocked", "collecting-again"}
    from_ = time(2, 45)


class DiskReadOnly(DiskTrouble):
    """It can only be read."""

    kind = "the disk is read-only"
    disk = Disk.READ_ONLY
    must: ClassVar[list[set[str]]] = [{"store-trouble", "collecting-blocked"}]
    may: ClassVar[set[str]] = {"store-trouble", "collecting-blocked", "collecting-again"}


class DiskSlow(DiskTrouble):
    """It takes its time, and nothing is amiss."""

    kind = "the disk is slow"
    disk = Disk.SLOW

    def begin_night(self, play: "Play") -> None:
        """Nothing may be reported of it."""


class StoreAway(Disturbance):
    """The store's folder is not there for some hours of the night; its disk was taken away."""

    kind: ClassVar[str] = "the store is away"

    def begin_night(self, play: "Play") -> None:
        play.night.blocked, play.night.visits = True, (1, 90)
        play.night.must.append({"store-trouble", "collecting-blocked"})
        play.night.may |= {"collecting-blocked", "collecting-again"}

    def stops(self, play: "Play") -> _Stops:
        begins = play.at(time(2, self.rng.randrange(5, 50)))
        return [(begins, lambda: self.take(play)), (begins + timedelta(minutes=90), lambda: self.bring_back(play))]

    def take(self, play: "Play") -> None:
        """It is away."""
        (play.home / "store").rename(play.home.parent / "aside")

    def bring_back(self, play: "Play") -> None:
        """It is there again."""
        (play.home.parent / "aside").rename(play.home / "store")


class StoreReplaced(StoreAway):
    """Another store stands in its place meanwhile."""

    kind = "the store is replaced"

    def take(self, play: "Play") -> None:
        super().take(play)
        code, _, err = play.ask("new", ".", "--store-only")
        if code != 0:
            play.find("defect", "new", err[-200:])

    def bring_back(self, play: "Play") -> None:
        with sqlite3.connect(play.home / "store" / "ledger.sqlite") as db:
            if db.execute("SELECT count(*) FROM version").fetchone() != (0,):
                play.find("loss", "the store", "versions were written into another store")
        db.close()
        shutil.rmtree(play.home / "store")
        super().bring_back(play)


class Rot(Disturbance):
    """A bit of the ledger changes on the disk. It is set right at noon."""

    kind = "a bit rots in the store"

    def begin_night(self, play: "Play") -> None:
        play.night.may |= {"store-damaged", "store-verified", "copy-behind"}

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(14)), lambda: self._rot(play))]

    def _rot(self, play: "Play") -> None:
        """In a content that is read when all is verified; that must find it, and say it."""
        ledger = play.home / "store" / "ledger.sqlite"
        number, data = rot(ledger, self.rng)
        code, out, err = play.ask("verify")
        # What no version is made of any more may rot unseen.
        if code != 5 and (damage := play.judge.damage_in(ledger.parent)):
            said = f"it ended with {code} on a store where {damage}: {out[-200:]} {err[-200:]}"
            play.find("false all-clear", "verify", said)
        with sqlite3.connect(ledger) as db:
            db.execute("UPDATE content SET data = ? WHERE id = ?", (data, number))
        db.close()
        code, out, err = play.ask("verify")
        if code != 0:
            play.find("false alarm", "verify", f"it ended with {code} on a whole store: {out[-200:]} {err[-200:]}")


# ---- its file, its secrets -------------------------------------------------------------------------------------------


class EstateWrong(Disturbance):
    """A mistake in the estate file, set right after a day."""

    kind = "a mistake in the estate file"

    def begin_night(self, play: "Play") -> None:
        mistake = self.rng.choice(
            [('at = "02:30"', 'at = "25:30"'), ('over = "local"', 'over = "locl"'), ("[estate]", "[estate")]
        )
        play.write_estate(play.text.replace(*mistake))
        play.night.must.append({"estate-refused"})
        play.night.unsure = True  # no command works by it

    def end(self, play: "Play") -> None:
        play.write_estate(play.text)
        play.put_off.append(lambda: play.night.must.append({"estate-accepted"}))


class EstateChanged(Disturbance):
    """A harmless change of the estate file while a round runs."""

    kind = "a change in the estate file"

    def stops(self, play: "Play") -> _Stops:
        return [
            (play.at(time(2, self.rng.randrange(31, 59))), lambda: play.write_estate(play.text + f"# {self.day}\n"))
        ]


class AnotherZone(Disturbance):
    """The estate's clocks are those of another place for some days: the round comes once a night anyway."""

    kind = "another time zone"
    nights = 3

    def begin_night(self, play: "Play") -> None:
        play.write_estate(play.text.replace("Europe/Oslo", "Atlantic/Azores"))
        if self.day == play.night.day:
            play.night.must.append({"estate-changed", "estate-refused"})

    def end(self, play: "Play") -> None:
        play.write_estate(play.text)
        play.put_off.append(lambda: play.night.must.append({"estate-changed", "estate-refused"}))


class SecretGone(Disturbance):
    """The file of the devices' password is not there."""

    kind = "a secret is gone"
    mild = True

    def begin_night(self, play: "Play") -> None:
        (play.home / "keys" / "reader").rename(play.home / "keys" / "away")
        for name, source in play.sources.items():
            if source.device is not None:
                play.refuse(name, frozenset({"failed"}))

    def end(self, play: "Play") -> None:
        (play.home / "keys" / "away").rename(play.home / "keys" / "reader")


# ---- those it tells, and its copy ------------------------------------------------------------------------------------


class MailLater(Disturbance):
    """The mail relay takes nothing for a night."""

    kind: ClassVar[str] = "the relay takes nothing"
    mild = True
    how: ClassVar[dict[str, str]] = {"mail": "later"}

    def begin_night(self, play: "Play") -> None:
        play.outside.behave(**self.how)
        play.night.mail_later |= "mail" in self.how
        play.night.may.add("channel-failing")
        play.night.post_later |= "web" in self.how

    def end(self, play: "Play") -> None:
        play.outside.behave()


class MailDown(MailLater):
    """It closes every connection."""

    kind = "the relay closes down"
    how: ClassVar[dict[str, str]] = {"mail": "down"}


class WebDown(MailLater):
    """The web server says that it is out of order."""

    kind = "the web server is out of order"
    how: ClassVar[dict[str, str]] = {"web": "down"}


class AllDown(MailLater):
    """Both."""

    kind = "nobody can be told"
    how: ClassVar[dict[str, str]] = {"web": "down", "mail": "down"}


class CopyAway(Disturbance):
    """The copy's folder cannot be written for three nights: its place is taken by a file."""

    kind = "the copy is away"
    nights = 3

    def begin_night(self, play: "Play") -> None:
        copy, aside = play.home.parent / "copy", play.home.parent / "copy aside"
        if copy.is_dir() and not aside.exists():
            copy.rename(aside)
            copy.write_text("not a folder")
        play.night.copies = True
        play.night.may.add("copy-behind")

    def end(self, play: "Play") -> None:
        if not play.judge.was_told("copy-behind", since=self.day):
            play.find("false all-clear", "the copy", "it has been behind for three nights, and nothing was told")
        copy, aside = play.home.parent / "copy", play.home.parent / "copy aside"
        if aside.exists():
            copy.unlink()
            aside.rename(copy)
        play.put_off.append(lambda: self._back(play))

    @staticmethod
    def _back(play: "Play") -> None:
        play.night.copies = True
        play.night.may.add("copy-well")


class CopyGone(Disturbance):
    """A copy's folder is removed: it is not up to date, and the next update makes it again."""

    kind = "a copy is gone"

    def begin_night(self, play: "Play") -> None:
        play.night.copies = True
        play.night.may |= {"copy-behind", "copy-well"}

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(10)), lambda: self._remove(play))]

    def _remove(self, play: "Play") -> None:
        name, place = self.rng.choice([("second", "copy"), ("files", "files"), ("history", "history.git")])
        folder = play.home.parent / place
        if not folder.is_dir():
            return
        shutil.rmtree(folder)
        code, out, err = play.ask("copies", name)
        if play.is_odd(code, 5):
            play.find("false all-clear", "the copies", f"{name} is gone, and copies ended with {code}: {out[-200:]}")
        code, out, err = play.ask("copies", name, "--update")
        if play.is_odd(code, 0) or not folder.is_dir():
            play.find("defect", "the copies", f"{name} was not made anew: {code}: {out[-200:]} {err[-300:]}")


class _OtherStore(Disturbance):
    """What is not the store that the copies belong to: they keep what they hold, and say so."""

    def begin_night(self, play: "Play") -> None:
        play.night.copies = True
        play.night.may |= {"copy-behind", "copy-well", "copy-refused"}

    def _refused(self, play: "Play", home: Path | None = None) -> None:
        """No copy takes anything from this store."""
        places = [play.home.parent / one for one in ("copy", "files", "history.git")]
        if not all(one.is_dir() for one in places):
            return
        before = [_holding(one) for one in places]
        code, out, err = play.ask("copies", "--update", *(["--estate", str(home)] if home else []))
        if [_holding(one) for one in places] != before:
            play.find("loss", "the copies", f"another store changed them: {code}: {out[-200:]} {err[-300:]}")
        if play.is_odd(code, 5):
            play.find("false all-clear", "the copies", f"another store was no reason: {code}: {err[-300:]}")


class StoreMadeAgain(_OtherStore):
    """The store is lost, a new one is made in its place, and copies are updated; then the old one comes back."""

    kind = "the store is made again"

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(10)), lambda: self._make(play))]

    def _make(self, play: "Play") -> None:
        ran = play.program.runs
        play.end_service()
        store, aside = play.home / "store", play.home / "store aside"
        store.rename(aside)
        play.ask("new", str(play.home), "--store-only")
        self._refused(play)
        shutil.rmtree(store)
        aside.rename(store)
        if ran:
            play.begin_service()


class TwoStores(_OtherStore):
    """A second estate names the same copies."""

    kind = "two stores at one copy"
    mild = True

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(10)), lambda: self._make(play))]

    def _make(self, play: "Play") -> None:
        other = play.home.parent / "other"
        other.mkdir()
        shutil.copytree(play.home / "keys", other / "keys")
        text = (play.home / "historon.toml").read_text()
        (other / "historon.toml").write_text(re.sub(r"\[channels\..*?\n(?=\[(?!channels))", "", text, flags=re.DOTALL))
        play.ask("new", str(other), "--store-only")
        self._refused(play, other / "historon.toml")
        shutil.rmtree(other)


def _holding(folder: Path) -> dict[str, bytes]:
    """All that lies in a folder."""
    return {str(one.relative_to(folder)): one.read_bytes() for one in sorted(folder.rglob("*")) if one.is_file()}


class CopyCutShort(Disturbance):
    """The store loses its newest versions behind Historon's back; the copy has them, and must keep them."""

    kind = "the store loses versions"

    def begin_night(self, play: "Play") -> None:
        play.night.copies = True
        play.night.may |= {"copy-behind", "copy-refused", "copy-well"}

    def end(self, play: "Play") -> None:
        play.put_off.append(lambda: self._over(play))

    @staticmethod
    def _over(play: "Play") -> None:
        play.night.copies = True
        play.night.may |= {"copy-well", "copy-refused"}

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(10)), lambda: self._lose(play))]

    def _lose(self, play: "Play") -> None:
        """And they come back after the copy was to be made again."""
        ledger = play.home / "store" / "ledger.sqlite"
        copied = play.home.parent / "copy" / "ledger.sqlite"
        if not copied.is_file():
            return
        with sqlite3.connect(ledger) as db:
            rows = db.execute("SELECT * FROM version ORDER BY at DESC LIMIT 1").fetchall()
            db.execute("DELETE FROM version WHERE source = ? AND number = ?", rows[0][:2])
        with sqlite3.connect(copied) as kept:
            there = kept.execute("SELECT count(*) FROM version WHERE source = ? AND number = ?", rows[0][:2]).fetchone()
        code, out, err = play.ask("copies", "--update")
        with sqlite3.connect(copied) as kept:
            after = kept.execute("SELECT count(*) FROM version WHERE source = ? AND number = ?", rows[0][:2]).fetchone()
        if there != after or (there == (1,) and code == 0):
            play.find(
                "loss", "the copy", f"the copy took over a loss, and ended with {code}: {out[-200:]} {err[-200:]}"
            )
        with db:
            db.execute(f"INSERT INTO version VALUES ({', '.join('?' * len(rows[0]))})", rows[0])  # noqa: S608 (marks alone)
        for one in (db, kept):
            one.close()


class CopyRot(Disturbance):
    """A bit of the copy changes on its disk: whoever verifies it learns it, and the next update makes it whole."""

    kind = "a bit rots in the copy"

    def begin_night(self, play: "Play") -> None:
        play.night.copies = True
        play.night.may |= {"copy-damaged", "copy-well"}

    def stops(self, play: "Play") -> _Stops:
        return [
            (play.at(time(14)), lambda: self._rot(play)),
            (play.at(time(11)), lambda: self._verify(play, whole=True)),
        ]

    def _rot(self, play: "Play") -> None:
        ledger = play.home.parent / "copy" / "ledger.sqlite"
        if ledger.is_file():
            rot(ledger, self.rng)
            # What no version is made of any more may rot unseen, and what Historon wrote itself is not looked at here.
            if play.judge.damage_in(ledger.parent):
                self._verify(play, whole=False)

    @staticmethod
    def _verify(play: "Play", *, whole: bool) -> None:
        if not (play.home.parent / "copy" / "ledger.sqlite").is_file():
            return
        code, out, err = play.ask("copies", "second", "--verify", "all")
        if whole is not (code in (0, 1)):  # 1: it is behind
            mistake = "false alarm" if whole else "false all-clear"
            play.find(mistake, "the copy", f"verified with {code}: {out[-200:]} {err[-200:]}")


def rot(ledger: Path, rng: Random) -> tuple[int, bytes]:
    """Change one bit of a content: which one, and as it was."""
    with sqlite3.connect(ledger) as db:
        rows = db.execute("SELECT id, data FROM content WHERE length(data) > 40 ORDER BY id").fetchall()
        number, data = rng.choice(rows)
        at = rng.randrange(8, len(data))
        rotten = data[:at] + bytes([data[at] ^ 4]) + data[at + 1 :]
        db.execute("UPDATE content SET data = ? WHERE id = ?", (rotten, number))
    db.close()
    return number, data


DISTURBANCES: Sequence[type[Disturbance]] = (
    KilledAtStep,
    KilledAtTurn,
    KilledAndDown,
    Down,
    DownForLong,
    Restarted,
    SecondService,
    ByHand,
    KilledByHand,
    Pruned,
    KilledPruning,
    Restored,
    RestoredOver,
    Looked,
    ClockWrong,
    ClockForward,
    DiskTrouble,
    DiskFilling,
    DiskReadOnly,
    DiskSlow,
    StoreAway,
    StoreReplaced,
    Rot,
    EstateWrong,
    EstateChanged,
    AnotherZone,
    SecretGone,
    MailLater,
    MailDown,
    WebDown,
    AllDown,
    CopyAway,
    CopyRot,
    CopyCutShort,
    CopyGone,
    StoreMadeAgain,
    TwoStores,
)
