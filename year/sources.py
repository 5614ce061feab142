"""The sources of the simulated estate: what they are set to, how they are asked, and where they give it."""

import hashlib
import os
import random
import shutil
from collections.abc import Iterable, Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email.message import EmailMessage
from pathlib import Path
from typing import ClassVar
from zlib import crc32

from year.devices import Device
from year.texts import EDITS, STYLES, Model, Style, model_of
from year.truth import Export

__all__ = ["POSTS", "Offer", "Source", "made_sources"]


@dataclass(frozen=True)
class Offer:
    """What a source gives when it is asked: parts, or none at all; and how a device or a service behaves."""

    parts: Export | None
    mode: str = ""


@dataclass(frozen=True)
class Post:
    """A kind of source: how it is reached, its style, and how what arrives is known and kept."""

    transport: str
    style: str
    sign: str = ""  # of a whole file that arrives
    then: str = ""  # what becomes of it


# In this order, so that the first few already are of every kind.
POSTS: Sequence[Post] = (
    Post("file", "indentation"),
    Post("drop", "braces", sign="marker", then="remove"),
    Post("ssh-shell", "indentation"),
    Post("tree", "words"),
    Post("mail", "indentation", then="move"),
    Post("https", "xml"),
    Post("file", "json"),
    Post("paused", "headers"),
    Post("netconf", "netconf"),
    Post("file", "archive"),
    Post("program", "flat"),
    Post("drop", "csv", sign="checksum", then="move"),
    Post("ssh-exec", "archive"),
    Post("file", "database"),
    Post("telnet", "indentation"),
    Post("file", "prefixes"),
    Post("file", "xml"),
    Post("drop", "xml", sign="format", then="keep"),
    Post("mail", "json", then="remove"),
    Post("file", "csv"),
    Post("https", "json"),
    Post("file", "braces"),
    Post("drop", "indentation", sign="ends", then="remove"),
    Post("ssh-shell", "indentation"),
    Post("file", "words"),
    Post("file", "headers"),
    Post("paused", "indentation"),
    Post("file", "flat"),
    Post("tree", "indentation"),
    Post("drop", "flat", sign="size", then="move"),
    Post("netconf", "netconf"),
    Post("program", "json"),
    Post("mail", "archive", then="keep"),
    Post("drop", "archive", sign="renamed", then="remove"),
    Post("file", "long"),
    Post("file", "large"),
)


@dataclass
class Source:
    """One source, its true state, and where that is to be found."""

    name: str
    post: Post
    home: Path  # the estate's folder
    model: Model
    device: Device | None = None
    pushed: int = 0
    unwanted: list[str] = field(default_factory=list)  # files that are taken away the next day
    useless: list[str] = field(default_factory=list)  # letters without an export, which stay
    PARTS: ClassVar[dict[str, str]] = {"ssh-exec": "config.tgz", "netconf": "running.xml"}

    @property
    def style(self) -> Style:
        """Its style."""
        return STYLES[self.post.style]

    @property
    def arrives(self) -> bool:
        """Whether its exports arrive by themselves."""
        return self.post.transport in ("drop", "mail")

    @property
    def max_age(self) -> timedelta:
        """How old its last good version may get: what is pushed at noon is taken in the night, and was made at noon."""
        return timedelta(hours=50 if self.arrives else 30)

    @property
    def part(self) -> str:
        """The name of its only part."""
        return self.PARTS.get(self.post.transport, f"export.{self.style.suffix}")

    def truth(self) -> Export:
        """What a whole export holds now."""
        if self.post.transport != "tree":
            return {self.part: self.style.write(self.model)}
        whole = {"tree/main.cfg": self.style.write(self.model)}
        for number, section in enumerate(self.model.sections):
            whole[f"tree/ports/{number % 6}.conf"] = whole.get(f"tree/ports/{number % 6}.conf", b"") + (
                "".join(f"{section.name} {key} {value}\n" for key, value in section.settings).encode()
            )
        return whole

    def means_the_same(self, before: Model) -> bool:
        """Whether its state differs from an earlier one in noise alone."""
        one, other = deepcopy(self.model), deepcopy(before)
        for name in self.style.quiet:
            setattr(other, name, getattr(one, name))
        return one == other

    def live(self, rng: random.Random) -> None:
        """A day passes: noise, and now and then an edit. What has no noise is left alone but for edits."""
        if "saved" in self.style.quiet or self.arrives:
            self.model.saved += rng.randrange(1, 90) if rng.random() < 0.8 or self.arrives else 0
        if "turned" in self.style.quiet:
            self.model.turned += rng.random() < 0.3
        if rng.random() < 0.12:
            EDITS[rng.choice([*EDITS])](self.model, rng)

    # ---- in the estate file ----------------------------------------------------------------------------------

    def described(self, labels: str) -> str:
        """Its table and its procedure's, as the estate file has them."""
        hours = self.max_age // timedelta(hours=1)
        lines = [
            f'[[sources]]\nname = "{self.name}"\nprocedure = "of-{self.name}"\nlabels = {labels}\nmax_age = "{hours}h"'
        ]
        if self.device is not None:
            pin = "certificate" if self.post.transport == "https" else "host_key"
            lines.append(f'address = "127.0.0.1"\nport = {self.device.port}\ncredentials = "reader"')
            lines += [f'{pin} = "{self.device.fingerprint}"'] if self.post.transport != "telnet" else []
        limits = "" if self.post.style == "large" else 'max_size = "4MiB"'
        lines.append(f"[procedures.of-{self.name}]\n{self.style.noise}\n{limits}\n{self._procedure()}")
        return "\n".join(lines) + "\n"

    def _procedure(self) -> str:
        ends = f', ends_with = "{self.style.end}"' if self.style.end else ""
        as_part = f'as = "{self.part}"{ends}'
        here = f"data/{self.name}/{self.part}"
        match self.post.transport:
            case "file":
                return f'over = "local"\nsteps = [{{ pull = "{here}", {as_part} }}]'
            case "tree":
                return f'over = "local"\nsteps = [{{ pull = "data/{self.name}/tree", as = "tree" }}]'
            case "program":
                return f'over = "local"\nsteps = [{{ keep = ["cat", "{here}"], {as_part} }}]'
            case "paused":
                control = f"{self.home}/data/{self.name}/control"
                return (
                    f'over = "local"\n[[procedures.of-{self.name}.steps]]\npause = ["{control}", "pause"]\n'
                    f'resume = ["{control}", "resume"]\nprobe = ["{control}", "state"]\n'
                    f"until = {{ holds = ['is running'] }}\nwithin = \"1m\"\n"
                    f'steps = [{{ pull = "{here}", {as_part} }}]'
                )
            case "drop" | "mail":
                return self._arriving(as_part)
            case "ssh-shell" | "telnet":
                return (
                    f"over = \"{self.post.transport}\"\nprompt = '^\\S+# ?$'\npager = '-- more --'\n"
                    f'steps = [{{ send = "paging off" }}, {{ keep = "list settings active", {as_part} }}]'
                )
            case "ssh-exec":
                return f'over = "ssh-exec"\nsteps = [{{ pull = "/export/config.tgz", {as_part} }}]'
            case "https":
                return f'over = "https"\nauth = "basic"\nsteps = [{{ pull = "/export", {as_part} }}]'
            case _:
                return f'over = "netconf"\nsteps = [{{ keep = "get-config running", {as_part}, canonical = true }}]'

    def _arriving(self, as_part: str) -> str:
        place = f"data/{self.name}"
        if self.post.transport == "mail":
            folder = f'over = "mailbox"\nfolder = "{place}"\nthen = "{self.post.then}"'
            return f'{folder}\nsteps = [{{ pull = "*.{self.style.suffix}", {as_part} }}]'
        suffix = self.style.suffix
        signs = {
            "marker": "marker:{file}.done",
            "checksum": "checksum:{file}.sha256",
            "size": "size:{file}.size",
            "ends": f"ends:{self.style.end}",
            "format": f"format:{suffix}",
            "renamed": "renamed",
        }
        folder = f'over = "drop-folder"\nfolder = "{place}"\nthen = "{self.post.then}"'
        complete = signs[self.post.sign]
        return f'{folder}\nsteps = [{{ pull = "export-*.{suffix}", {as_part}, complete = "{complete}" }}]'

    # ---- where it is found -----------------------------------------------------------------------------------

    def settle(self) -> None:
        """Make what it needs to be found."""
        place = self.home / "data" / self.name
        place.mkdir(parents=True, exist_ok=True)
        if self.post.transport == "mail":
            for name in ("new", "cur", "tmp"):
                (place / name).mkdir()
        if self.post.transport == "paused":
            (place / "state").write_text("running\n")
            (place / "control").write_text(_CONTROL)
            (place / "control").chmod(0o700)

    def put(self, offer: Offer) -> None:
        """Let it give this from now on; what arrives by itself is pushed instead."""
        place = self.home / "data" / self.name
        if self.device is not None:
            self.device.put(offer.parts[self.part] if offer.parts else None, offer.mode)
            return
        if self.post.transport == "paused":
            for mode in ("cannot-pause", "cannot-resume"):
                (place / mode).unlink(missing_ok=True)
            if offer.mode:
                (place / offer.mode).touch()
        if self.post.transport == "tree":
            shutil.rmtree(place / "tree", ignore_errors=True)
        (place / self.part).unlink(missing_ok=True)
        for name, content in (offer.parts or {}).items():
            file = place / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content)

    @property
    def running(self) -> bool:
        """Whether the service that is paused for its sake runs."""
        state = self.home / "data" / self.name / "state"
        return self.post.transport != "paused" or state.read_text() == "running\n"

    def push(self, content: bytes, at: datetime, *, whole: bool = True) -> str:
        """Let an export arrive at an instant; unless it is whole, without what says that it is. Its file's name."""
        self.pushed += 1
        if self.post.transport == "mail":
            self.deliver(content, at, f"<{self.name}-{self.pushed}@brackwater.example>")
            return ""
        name = f"export-{self.pushed:05}.{self.style.suffix}"
        file = self.home / "data" / self.name / name
        file.write_bytes(content)
        _set_time(file, at)
        beside = {
            "marker": ("done", b""),
            "size": ("size", str(len(content)).encode()),
            "checksum": ("sha256", f"{hashlib.sha256(content).hexdigest()}  {name}\n".encode()),
        }.get(self.post.sign)
        if not whole:
            self.unwanted.append(name)
        elif beside:
            companion = file.with_name(f"{name}.{beside[0]}")
            companion.write_bytes(beside[1])
            _set_time(companion, at + timedelta(seconds=1))
        return name

    def leave(self, name: str, content: bytes, at: datetime) -> None:
        """Leave a file of any name where exports arrive, whatever stands beside it."""
        file = self.home / "data" / self.name / name
        file.write_bytes(content)
        _set_time(file, at)
        self.unwanted.append(name)

    def tidy_up(self) -> None:
        """Take away what was never to be collected, with all that stands beside it."""
        for name in self.unwanted:
            for file in (self.home / "data" / self.name).glob(f"{name}*"):
                file.unlink()
        self.unwanted.clear()

    def deliver(self, content: bytes | None, at: datetime, message_id: str, dated: datetime | None = None) -> None:
        """Let a letter arrive at an instant, whatever date it bears; without content, one that has no export."""
        letter = EmailMessage()
        letter["From"], letter["Subject"] = f"{self.name}@brackwater.example", "export"
        letter["Date"], letter["Message-ID"] = dated or at, message_id
        if content is None:
            letter.set_content("no export today")
            self.useless.append(self._key_of(at))
        else:
            name = f"export.{self.style.suffix}"
            letter.add_attachment(content, maintype="application", subtype="octet-stream", filename=name)
        file = self.home / "data" / self.name / "new" / self._key_of(at)
        file.write_bytes(bytes(letter))
        _set_time(file, at)

    @property
    def then_gone(self) -> bool:
        """Whether what was taken of it does not stay where it arrived."""
        return self.post.then == "remove" or (self.post.then == "move" and self.post.transport == "drop")

    def _key_of(self, at: datetime) -> str:
        return f"{at.timestamp():.0f}.{self.pushed}.letter"

    def left_over(self) -> list[str]:
        """What lies where its exports arrive, and should have been put away."""
        return [name for name in self._waiting() if not name.startswith((*self.unwanted, *self.useless))]

    def _waiting(self) -> list[str]:
        place = self.home / "data" / self.name
        if self.post.transport == "mail":
            return [one.name for folder in ("new", "cur") for one in (place / folder).iterdir()]
        return [one.name for one in place.iterdir() if one.is_file()]


_CONTROL = """#!/bin/sh
cd "$(dirname "$0")"
case $1 in
pause) [ -e cannot-pause ] && exit 1; echo paused > state ;;
resume) [ -e cannot-resume ] && exit 1; echo running > state ;;
state) echo "is $(cat state)" ;;
esac
exit 0
"""


def _set_time(file: Path, at: datetime) -> None:
    os.utime(file, (at.timestamp(), at.timestamp()))


def made_sources(home: Path, seed: str, numbers: Iterable[int]) -> list[Source]:
    """Sources by their numbers, each the same whoever else is there. Devices are still to be given to them."""
    made = []
    posts = [one for one in POSTS if one.style != "large" or crc32(seed.encode()) % 10 == 0]  # it takes its time
    for index in numbers:
        post = posts[index % len(posts)]
        name = f"{post.transport}-{post.style}-{index:03}"
        made.append(Source(name, post, home, model_of(name, random.Random(f"{seed}/{name}"))))
    return made
