"""Brackwater Ferries: the example estate, with what happens to it night by night. All of it is made up."""

import json
import re
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from enum import StrEnum
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import asyncssh

from historon.estate import write_private
from historon.standins import brackwater_texts as texts
from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault
from historon.standins.certificates import SelfSigned
from historon.standins.device import SshDevice
from historon.standins.fairlead import BalancerFault, Fairlead
from historon.standins.lighter import Lighter
from historon.standins.oilskin import Oilskin, OilskinFault
from historon.standins.pennant import Pennant
from historon.standins.pierglass import Pierglass, PierglassFault
from historon.standins.purser import Purser
from historon.standins.thole import Thole, TholeFault
from historon.standins.tidewall import Tidewall, TidewallFault
from historon.standins.web import WebServer

__all__ = ["NIGHTS", "ZONE", "Brackwater", "evenings"]

ZONE = ZoneInfo("Europe/Oslo")
NIGHTS = 7
_FAULTS: dict[type, type[StrEnum]] = {
    Capstan: Fault,
    Fairlead: BalancerFault,
    Thole: TholeFault,
    Tidewall: TidewallFault,
    Pierglass: PierglassFault,
    Oilskin: OilskinFault,
}
_PROCEDURES = {
    Capstan: "capstan-router",
    Fairlead: "fairlead-balancer",
    Thole: "netconf",
    Tidewall: "tidewall-firewall",
    Pierglass: "pierglass-booking",
}
_PROTOCOLS = {Capstan: "SSH command line", Fairlead: "SSH commands, SFTP", Thole: "NETCONF"}


class Brackwater:
    """The estate's devices, simulated in this process, and the estate file that describes them.

    `clock` is the simulated instant, which the routers write into their configuration.
    """

    def __init__(
        self, folder: Path, clock: Callable[[], datetime], store: str = "store", store_password: str | None = None
    ) -> None:
        """`store` and `store_password` are as in the estate file."""
        self.folder = folder
        self._store, self._store_password = store, store_password
        self._clock = clock
        self._simulated = folder / "simulated"
        self._configs = {name: texts.router_config(name, index) for index, name in enumerate(texts.ROUTERS, 1)}
        self._balancer_files = dict(texts.BALANCER)
        self._rules = texts.rules()
        self._vlan = 110
        self._exports = {f"week-{week}.xml": (f"2026-W{week}", texts.booking_export(week)) for week in (22, 23)}
        self._background = Background()
        self.relay: Pennant | None = None

    def start(self) -> None:
        """Start the devices and write the estate into its folder, which `historon new` has laid out."""
        self._simulated.mkdir(mode=0o700)
        key = asyncssh.generate_private_key("ssh-ed25519")
        self._make_devices(key.convert_to_public())
        for ssh in self._ssh_devices:
            self._background.run(ssh.start())
        for web in self._web_servers:
            web.start()
        self.relay = Pennant(SelfSigned.make(self._simulated))
        self.relay.start()
        self.lighter.start()
        self.purser.write(texts.FILES)
        (self._simulated / "drop").mkdir(mode=0o700)
        keys = self.folder / "keys"
        write_private(keys / "config-reader", key.export_private_key())
        write_private(keys / "password", f"{self.firewall.password}\n".encode())
        write_private(keys / "mail", b"signal-flag\n")
        write_private(keys / "bucket", f"{self.lighter.key}\n".encode())
        (self.folder / "rescue.toml").write_text(texts.RESCUE.format(copy=self._copy), encoding="utf-8")
        (self.folder / "historon.toml").write_text(self._estate_file(self.relay), encoding="utf-8")

    def _make_devices(self, known: asyncssh.SSHKey) -> None:
        self.routers = {
            name: Capstan(name, partial(self._saved, name), authorized=known, save=partial(self._save, name))
            for name in texts.ROUTERS
        }
        self.balancer = Fairlead(
            "northmole-balance-1", self._simulated / "balancer", lambda: self._balancer_files, authorized=known
        )
        self.switch = Thole("eider-switch-1", lambda: texts.switch_config(self._vlan), authorized=known)
        self.firewall = Tidewall("saltgate-wall-1", self._simulated / "firewall", lambda: self._rules)
        self.booking = Pierglass("office-booking-1", self._simulated / "booking", lambda: self._exports)
        self.doors = Oilskin("eider-doors-1", self._simulated / "drop", lambda: texts.DOORS)
        self.purser = Purser(self._simulated / "purser")
        self.lighter = Lighter(self._simulated / "lighter")
        self.lighter.in_clear = True  # it is on loopback

    def stop(self) -> None:
        """Switch everything off."""
        for ssh in self._ssh_devices:
            self._background.run(ssh.stop())
        for web in self._web_servers:
            web.stop()
        if self.relay:
            self.relay.stop()
        self.lighter.stop()
        self._background.stop()

    @property
    def _ssh_devices(self) -> list[SshDevice]:
        return [*self.routers.values(), self.balancer, self.switch]

    @property
    def _web_servers(self) -> list[WebServer]:
        return [self.firewall, self.booking]

    @property
    def servers(self) -> list[tuple[str, str, int, str]]:
        """What listens: name, protocol, port on loopback, and by what it is known."""
        found = [(one.name, _PROTOCOLS[type(one)], one.port, one.fingerprint) for one in self._ssh_devices]
        return [*found, *((one.name, "HTTPS", one.port, one.fingerprint) for one in self._web_servers)]

    def break_down(self, name: str, fault: str) -> None:
        """Switch a fault of a device on, by their names; LookupError names what there is."""
        everything: list[Any] = [*self._ssh_devices, *self._web_servers, self.doors]
        devices = {one.name: one for one in everything}
        if name not in devices:
            raise LookupError(f"there is no device {name}; there are {', '.join(sorted(devices))}")
        faults = {one.name.lower(): one for one in _FAULTS[type(devices[name])]}
        if fault not in faults:
            known = "; ".join(f"{word} ({one})" for word, one in faults.items())
            raise LookupError(f"{name} has no such fault; it has: {known}")
        devices[name].fault = faults[fault]

    def pass_day(self, night: int) -> str:
        """What happens before this night, counted from 1; returns it in words."""
        happens: dict[int, tuple[str, Callable[[], None]]] = {
            1: ("Everything is collected for the first time.", lambda: None),
            2: ("Nothing changes but the clock lines in the routers' configurations.", lambda: None),
            3: ("An engineer renames a port of a router, and moves it to another network.", self._edit_port),
            4: ("The edge routers get a new time server and password; a pool grows; tariffs rise.", self._edit_edges),
            5: ("saltgate-quay-1 breaks off, eider-yard-1 sends half, the doors' upload stalls.", self._break),
            6: ("All are well again; the firewall has a new version, which moved its interface.", self._mend),
            7: ("Somebody opens the office to the outside; bookings have a new week's export.", self._open_office),
        }
        words, change = happens[night]
        change()
        self.doors.push(self._clock() - timedelta(minutes=90))  # it pushes at one in the morning
        return words

    def _saved(self, name: str) -> str:
        return self._configs[name].replace("{clock}", f"{self._clock().astimezone(ZONE):%Y-%m-%d %H:%M:%S}")

    def _save(self, name: str, text: str) -> None:
        """A router's settings were edited over its command line."""
        self._configs[name] = re.sub(r"(?m)^! saved at .*$", "! saved at {clock}", text)

    def _edit(self, name: str, old: str, new: str) -> None:
        changed = self._configs[name].replace(old, new, 1)
        assert changed != self._configs[name], (name, old)  # noqa: S101
        self._configs[name] = changed

    def _edit_port(self) -> None:
        self._edit(
            "northmole-edge-1", "  description berth 3 ticket hall", "  description berth 3 ticket hall, north door"
        )
        self._edit("northmole-edge-1", "  network vlan 130", "  network vlan 131")
        self._vlan = 131

    def _edit_edges(self) -> None:
        for name, (_, role) in texts.ROUTERS.items():
            if role == "edge":
                self._edit(name, "time-server 10.20.0.9", "time-server 10.20.0.11")
                secret = re.search(r"monitor community (\S+)", self._configs[name])
                assert secret  # noqa: S101
                self._edit(name, secret[1], f"quiet-{name[:3]}-heron-41")
        self._balancer_files["pools.conf"] += "  member 10.20.4.23:443\n"
        self.purser.write({"tariffs/summer.csv": texts.FILES["tariffs/summer.csv"].replace("78,39,210", "82,41,225")})

    def _break(self) -> None:
        self.routers["saltgate-quay-1"].fault = Fault.CLOSES
        self.routers["eider-yard-1"].fault = Fault.HALF
        self.doors.fault = OilskinFault.STALLS

    def _mend(self) -> None:
        for router in self.routers.values():
            router.fault = None
        self.doors.fault = None
        self.firewall.version = "10.0.2"

    def _open_office(self) -> None:
        self._edit("office-edge-1", "  deny any any", "  permit any 10.20.30.0/24\n  deny any any")
        self._rules = texts.rules('  <rule action="allow" name="visitors" from="any" to="10.20.30.0/24" port="443"/>')
        self._exports["week-24.xml"] = ("2026-W24", texts.booking_export(24))

    def _store_settings(self) -> str:
        lines = [f"store = {json.dumps(self._store)}"]
        lines += [f"store_password = {json.dumps(self._store_password)}"] if self._store_password else []
        return "\n".join(lines)

    def _estate_file(self, relay: Pennant) -> str:
        head = texts.ESTATE.format(
            store=self._store_settings(),
            relay_port=relay.port,
            relay_pin=relay.tls.fingerprint,
            copy=self._copy,
        )
        return head + "".join(texts.SOURCE.format(**fields) for fields in self._source_fields())

    @property
    def _copy(self) -> str:
        return texts.COPY.format(bucket_url=self.lighter.url)

    def _source_fields(self) -> Iterator[dict[str, object]]:
        everything: list[SshDevice | WebServer] = [*self._ssh_devices, *self._web_servers]
        for device in everything:
            setting = "certificate" if isinstance(device, WebServer) else "host_key"
            site, role = texts.PLACES[device.name]
            yield {
                "name": device.name,
                "port": device.port,
                "procedure": _PROCEDURES[type(device)],
                "site": site,
                "role": role,
                "pin": f'{setting} = "{device.fingerprint}"',
            }


def evenings(now: datetime) -> list[datetime]:
    """The instants of the nightly rounds, 02:30 in the estate's zone, the last one before `now`."""
    last = now.astimezone(ZONE).replace(hour=2, minute=30, second=0, microsecond=0)
    if last > now:
        last -= timedelta(days=1)
    return [last - timedelta(days=NIGHTS - 1 - night) for night in range(NIGHTS)]
