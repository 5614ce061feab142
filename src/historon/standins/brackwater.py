"""Brackwater Ferries: the example estate, with what happens to it night by night. All of it is made up."""

import random
import re
from collections.abc import Callable
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

import asyncssh

from historon.estate import write_private
from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault
from historon.standins.certificates import SelfSigned
from historon.standins.device import SshDevice
from historon.standins.fairlead import Fairlead
from historon.standins.pennant import Pennant

__all__ = ["NIGHTS", "ZONE", "Brackwater"]

ZONE = ZoneInfo("Europe/Oslo")
NIGHTS = 7
ROUTERS = {
    "northmole-edge-1": ("northmole", "edge"), "northmole-quay-1": ("northmole", "quay"),
    "saltgate-edge-1": ("saltgate", "edge"), "saltgate-quay-1": ("saltgate", "quay"),
    "eider-yard-1": ("eider", "yard"), "office-edge-1": ("office", "edge"),
}  # fmt: skip
_BALANCER = {
    "pools.conf": "pool quay-app\n  member 10.20.4.20:443\n  member 10.20.4.22:443\n",
    "sites.conf": "site booking.brackwater.example\n  pool quay-app\n  certificate booking-2026\n",
}
_FILES = {
    "purser.conf": "# Purser file server\nlisten = 10.20.4.10\nshare = manifests\nshare = tariffs\nworkers = 8\n",
    "shares/manifests.conf": "path = /srv/manifests\nwrite = quay-clerks\nread = office\n",
    "shares/tariffs.conf": "path = /srv/tariffs\nwrite = office\nread = everyone\n",
    "tariffs/summer.csv": "line,adult,child,car\nNorthmole-Saltgate,78,39,210\nSaltgate-Eider,64,32,185\n",
}


class Brackwater:
    """The estate's devices, simulated in this process, and the estate file that describes them.

    `clock` is the simulated instant, which the routers write into their configuration.
    """

    def __init__(self, folder: Path, clock: Callable[[], datetime]) -> None:
        self.folder = folder
        self._clock = clock
        self._configs = {name: _config(name, index) for index, name in enumerate(ROUTERS, 1)}
        key = asyncssh.generate_private_key("ssh-ed25519")
        self._client_key = key
        self.routers = {
            name: Capstan(name, partial(self._saved, name), authorized=key.convert_to_public()) for name in ROUTERS
        }
        self._background = Background()
        self._balancer_files = dict(_BALANCER)
        self.balancer = Fairlead(
            "northmole-balance-1", folder / "simulated" / "balancer", lambda: self._balancer_files,
            authorized=key.convert_to_public(),
        )  # fmt: skip
        self.relay: Pennant | None = None

    def start(self) -> None:
        """Start the devices and write the estate into its folder, which `historon start` has laid out."""
        machine = self.folder / "simulated"
        machine.mkdir(mode=0o700)
        for device in self._devices:
            self._background.run(device.start())
        self.relay = Pennant(SelfSigned.make(machine))
        self.relay.start()
        self._write_purser(_FILES)
        write_private(self.folder / "keys" / "config-reader", self._client_key.export_private_key())
        write_private(self.folder / "keys" / "mail", b"signal-flag\n")
        (self.folder / "historon.toml").write_text(self._estate_file(self.relay), encoding="utf-8")

    def stop(self) -> None:
        """Switch everything off."""
        for device in self._devices:
            self._background.run(device.stop())
        if self.relay:
            self.relay.stop()
        self._background.stop()

    @property
    def _devices(self) -> list[SshDevice]:
        return [*self.routers.values(), self.balancer]

    def pass_day(self, night: int) -> str:
        """What happens before this night, counted from 1; returns it in words."""
        happens: dict[int, tuple[str, Callable[[], None]]] = {
            1: ("Everything is collected for the first time.", lambda: None),
            2: ("Nothing changes but the clock lines in the routers' configurations.", lambda: None),
            3: ("An engineer renames a port and moves it to another network.", self._edit_port),
            4: ("The edge routers get a new time server and password; a pool grows; tariffs rise.", self._edit_edges),
            5: ("saltgate-quay-1 breaks off in the middle; eider-yard-1 sends half of it.", self._break),
            6: ("Both are well again.", self._mend),
            7: ("Somebody opens the office to the outside.", self._open_office),
        }  # fmt: skip
        words, change = happens[night]
        change()
        return words

    def _saved(self, name: str) -> str:
        return self._configs[name].replace("{clock}", f"{self._clock().astimezone(ZONE):%Y-%m-%d %H:%M:%S}")

    def _edit(self, name: str, old: str, new: str) -> None:
        changed = self._configs[name].replace(old, new, 1)
        assert changed != self._configs[name], (name, old)  # noqa: S101
        self._configs[name] = changed

    def _edit_port(self) -> None:
        self._edit(
            "northmole-edge-1", "  description berth 3 ticket hall", "  description berth 3 ticket hall, north door"
        )
        self._edit("northmole-edge-1", "  network vlan 130", "  network vlan 131")

    def _edit_edges(self) -> None:
        for name, (_, role) in ROUTERS.items():
            if role == "edge":
                self._edit(name, "time-server 10.20.0.9", "time-server 10.20.0.11")
                secret = re.search(r"monitor community (\S+)", self._configs[name])
                assert secret  # noqa: S101
                self._edit(name, secret[1], f"quiet-{name[:3]}-heron-41")
        more = "  member 10.20.4.23:443\n"
        self._balancer_files["pools.conf"] += more
        raised = _FILES["tariffs/summer.csv"].replace("78,39,210", "82,41,225")
        self._write_purser({"tariffs/summer.csv": raised})

    def _break(self) -> None:
        self.routers["saltgate-quay-1"].fault = Fault.CLOSES
        self.routers["eider-yard-1"].fault = Fault.HALF

    def _mend(self) -> None:
        for router in self.routers.values():
            router.fault = None

    def _open_office(self) -> None:
        self._edit("office-edge-1", "  deny any any", "  permit any 10.20.30.0/24\n  deny any any")

    def _write_purser(self, files: dict[str, str]) -> None:
        for name, text in files.items():
            file = self.folder / "simulated" / "purser" / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text, encoding="utf-8")

    def _estate_file(self, relay: Pennant) -> str:
        routers = "\n".join(
            _SOURCE.format(
                name=name,
                port=router.port,
                fingerprint=router.fingerprint,
                site=ROUTERS[name][0],
                role=ROUTERS[name][1],
            )
            for name, router in self.routers.items()
        )
        balancer = _BALANCE.format(port=self.balancer.port, fingerprint=self.balancer.fingerprint)
        return _ESTATE.format(relay_port=relay.port, relay_pin=relay.tls.fingerprint) + balancer + routers


def evenings(now: datetime) -> list[datetime]:
    """The instants of the nightly rounds, 02:30 in the estate's zone, the last one before `now`."""
    last = now.astimezone(ZONE).replace(hour=2, minute=30, second=0, microsecond=0)
    if last > now:
        last -= timedelta(days=1)
    return [last - timedelta(days=NIGHTS - 1 - night) for night in range(NIGHTS)]


def _config(name: str, number: int) -> str:
    """A believable configuration; the same for the same name."""
    rng = random.Random(name)
    places = [
        "ticket hall",
        "car lanes",
        "gangway",
        "control room",
        "crew mess",
        "weighbridge",
        "fuel point",
        "slipway",
    ]
    lines = [f"hostname {name}", "! saved at {clock}", "!", "time-server 10.20.0.9", "time-server 10.20.0.10"]
    lines += [f"monitor community tide-{rng.randrange(1000, 9999)} read-only", "!"]
    for port in range(1, 13):
        lines += [
            f"interface port-{port}",
            f"  description berth {port} {places[port % len(places)] if port != 3 else 'ticket hall'}",
            f"  network vlan {100 + port * 10}",
            f"  address 10.20.{number}.{port * 4 + 1}/30",
            "  shutdown" if rng.random() < 0.15 else "  no shutdown",
            "!",
        ]
    lines += ["access-list outside-in"]
    lines += [f"  permit 203.0.113.{rng.randrange(1, 254)} 10.20.{number}.0/24 port 443" for _ in range(6)]
    lines += ["  deny any any", "!"]
    lines += [f"route 10.{rng.randrange(21, 60)}.0.0/16 via 10.20.{number}.2" for _ in range(8)]
    lines += ["!", f"user config-reader level 1 password {rng.getrandbits(64):016x}", "!", "end"]
    return "\n".join(lines) + "\n"


_ESTATE = """\
# Brackwater Ferries: two quays, a yard and an office. All of it is made up and simulated on this machine.

[estate]
name = "Brackwater Ferries"
time_zone = "Europe/Oslo"
store = "store"

[defaults]
retention = "short"
promise = "26h"

[credentials.routers]
user = "config-reader"
key = "file:keys/config-reader"

[credentials.mail]
user = "historon"
password = "file:keys/mail"

[retention.short]              # short, so that the demo has something to prune
all = "2d"
week = "1y"
at_least = 3

[procedures.capstan-router]
over = "ssh-shell"
prompt = '^[\\w.-]+# ?$'
pager = '-- more --'
retry_pause = "100ms"          # before a failure that may pass is tried again; longer in earnest
steps = [
  {{ send = "screen lines off" }},
  {{ keep = "display config active", as = "active.cfg", ends_with = "end" }},
]
noise = ['^! saved at ']
secret = ['monitor community (\\S+)']

[procedures.fairlead-balancer]
over = "ssh-exec"
steps = [
  {{ send = "archive make /export/now.tgz" }},
  {{ pull = "/export/now.tgz", as = "config.tgz" }},
  {{ keep = "connections list", as = "connections.txt" }},
  {{ tidy = "archive remove /export/now.tgz" }},
]

[procedures.purser-files]
over = "local"
steps = [
  {{ pull = "simulated/purser", as = "purser" }},
  {{ keep = ["uname", "-m"], as = "machine.txt" }},
]

[channels.operators]
kind = "mail"
to = ["operators@brackwater.example"]
from = "historon@brackwater.example"
server = "localhost"
port = {relay_port}
security = "starttls"
certificate = "{relay_pin}"
credentials = "mail"
tell = "changes"

[[sources]]
name = "purser-files"
procedure = "purser-files"
labels = {{ site = "office", role = "files" }}
"""
_BALANCE = """\

[[sources]]
name = "northmole-balance-1"
address = "127.0.0.1"
port = {port}
procedure = "fairlead-balancer"
credentials = "routers"
host_key = "{fingerprint}"
labels = {{ site = "northmole", role = "balancer" }}
"""
_SOURCE = """\

[[sources]]
name = "{name}"
address = "127.0.0.1"
port = {port}
procedure = "capstan-router"
credentials = "routers"
host_key = "{fingerprint}"
labels = {{ site = "{site}", role = "{role}" }}
"""
