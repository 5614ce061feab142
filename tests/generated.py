"""Devices in six styles, and nights of edits with the truth about them."""

import random
from collections.abc import Callable, Iterator
from copy import deepcopy
from dataclasses import dataclass, field

STYLES = ("indented", "braces", "words", "sections", "set lines", "xml")


@dataclass
class Device:
    """What a device is to do; everything with its number in it is its own."""

    number: int
    style: str
    port_mtu: dict[int, str] = field(default_factory=dict)
    users: dict[str, str] = field(default_factory=dict)
    rules: list[str] = field(default_factory=list)
    routes: list[str] = field(default_factory=list)
    settings: dict[str, str] = field(default_factory=dict)

    @property
    def name(self) -> str:
        return f"berth-{self.number}"

    @classmethod
    def made(cls, number: int, style: str) -> "Device":
        made = cls(number, style)
        made.port_mtu = dict.fromkeys(range(1, 5 + number % 3), "1500")
        made.users = {"harbour": "operator", "watch": "viewer"}
        made.rules = [
            f"permit tcp 10.{number}.0.0/16 10.200.0.0/16 port 443",
            f"permit udp 10.{number}.4.0/24 10.200.0.53/32 port 53",
            "deny tcp 0.0.0.0/0 10.200.9.0/24 port 22",
            "deny ip 192.0.2.0/24 10.200.0.0/16",
        ]
        made.routes = [f"10.200.0.0/16 via 10.{number}.0.2"]
        made.settings = {
            "ntp-server": "10.200.0.123",
            "syslog-server": "10.200.0.14",
            "dns-server": "10.200.0.53",
            "timeout": "600",
            "banner": "authorised persons only",
            "location": f"quay {number}",
            "ssh-cipher": "aes256-gcm",
            "verify-certificate": "yes",
            "asn": str(65000 + number),
            "vlan": str(100 + number),
        }
        return made

    @property
    def text(self) -> bytes:
        return (_RENDERED[self.style](self) + "\n").encode()


def _indented(one: Device) -> str:
    lines = [f"hostname {one.name}", *(f"{key} {value}" for key, value in one.settings.items())]
    for user, role in one.users.items():
        lines += [f"username {user}", f"  role {role}", "!"]
    lines += ["interface loopback0", f"  ip address 10.255.0.{one.number}/32", "!"]
    for port, mtu in one.port_mtu.items():
        lines += [f"interface port-{port}", f"  address 10.{one.number}.{port}.1/24", f"  mtu {mtu}", "  enabled", "!"]
    lines += ["access-list edge", *(f"  {rule}" for rule in one.rules), "!"]
    return "\n".join([*lines, *(f"route {route}" for route in one.routes), "end"])


def _braces(one: Device) -> str:
    lines = [
        "system {",
        f"    host-name {one.name};",
        *(f"    {key} {value};" for key, value in one.settings.items()),
        "}",
    ]
    for user, role in one.users.items():
        lines += [f"user {user} {{", f"    role {role};", "}"]
    lines += ["interface loopback0 {", f"    ip address 10.255.0.{one.number}/32;", "}"]
    for port, mtu in one.port_mtu.items():
        lines += [f"interface port-{port} {{", f"    address 10.{one.number}.{port}.1/24;", f"    mtu {mtu};", "}"]
    lines += ["access-list edge {", *(f"    {rule};" for rule in one.rules), "}"]
    return "\n".join([*lines, "routes {", *(f"    {route};" for route in one.routes), "}"])


def _words(one: Device) -> str:
    lines = [
        "config system",
        f"    set hostname {one.name}",
        *(f"    set {k} {v}" for k, v in one.settings.items()),
        "end",
    ]
    lines += ["config user"]
    for user, role in one.users.items():
        lines += [f"    edit {user}", f"        set role {role}", "    next"]
    lines += ["end", "config interface"]
    for port, mtu in one.port_mtu.items():
        lines += [
            f"    edit port{port}",
            f"        set ip 10.{one.number}.{port}.1 255.255.255.0",
            f"        set mtu {mtu}",
            "    next",
        ]
    lines += ["end", "config policy"]
    for rule in one.rules:
        lines += [f"    set rule {rule}"]
    return "\n".join([*lines, "end", "config route", *(f"    set dst {route}" for route in one.routes), "end"])


def _sections(one: Device) -> str:
    lines = ["[system]", f"hostname = {one.name}", *(f"{key} = {value}" for key, value in one.settings.items())]
    for user, role in one.users.items():
        lines += [f"[user {user}]", f"role = {role}"]
    for port, mtu in one.port_mtu.items():
        lines += [f"[interface port-{port}]", f"address = 10.{one.number}.{port}.1/24", f"mtu = {mtu}"]
    lines += ["[rules]", *one.rules]
    return "\n".join([*lines, "[routes]", *one.routes])


def _set_lines(one: Device) -> str:
    lines = [f"set system host-name {one.name}", *(f"set system {key} {value}" for key, value in one.settings.items())]
    lines += [f"set users {user} role {role}" for user, role in one.users.items()]
    for port, mtu in one.port_mtu.items():
        lines += [
            f"set interfaces port-{port} address 10.{one.number}.{port}.1/24",
            f"set interfaces port-{port} mtu {mtu}",
        ]
    lines += [f"set access-list edge {rule}" for rule in one.rules]
    return "\n".join([*lines, *(f"set routes {route}" for route in one.routes)])


def _xml(one: Device) -> str:
    lines = ["<config>", f"  <hostname>{one.name}</hostname>", "  <system>"]
    lines += [*(f"    <{key}>{value}</{key}>" for key, value in one.settings.items()), "  </system>"]
    lines += [*(f'  <user name="{user}"><role>{role}</role></user>' for user, role in one.users.items())]
    for port, mtu in one.port_mtu.items():
        lines += [
            f'  <interface name="port-{port}">',
            f"    <address>10.{one.number}.{port}.1/24</address>",
            f"    <mtu>{mtu}</mtu>",
            "  </interface>",
        ]
    lines += ["  <rules>", *(f"    <rule>{rule}</rule>" for rule in one.rules), "  </rules>"]
    return "\n".join([*lines, *(f"  <route>{route}</route>" for route in one.routes), "</config>"])


_RENDERED: dict[str, Callable[[Device], str]] = dict(
    zip(STYLES, (_indented, _braces, _words, _sections, _set_lines, _xml), strict=True)
)
_Edit = Callable[[Device], None]


@dataclass(frozen=True)
class Night:
    """Of each device that was edited: what became of it, and which edit that was, equal ones by the same name."""

    number: int
    edited: dict[int, tuple[bytes, bytes, str]]
    opened: str | None = None


def nights(seed: int, devices: int = 42, count: int = 30) -> Iterator[Night]:
    """Nights of edits on devices of all styles, each at most once a night."""
    rng = random.Random(seed)
    estate = [Device.made(number, STYLES[number % len(STYLES)]) for number in range(1, devices + 1)]
    for number in range(1, count + 1):
        free = list(range(devices))
        rng.shuffle(free)
        edited: dict[int, tuple[bytes, bytes, str]] = {}
        opened = None
        for label, edit, many in _plans(rng, number):
            style_of = {}
            for _ in range(min(many, len(free))):
                at = free.pop()
                after = deepcopy(estate[at])
                edit(after)
                if after.text != estate[at].text:
                    style_of[at] = after.style
                    edited[at] = (estate[at].text, after.text, f"{label} in {after.style}")
                    estate[at] = after
                    opened = edited[at][2] if label.startswith("opened") else opened
        yield Night(number, edited, opened)


def _plans(rng: random.Random, night: int) -> list[tuple[str, _Edit, int]]:
    """The edits of a night, by name, and how many devices get them."""
    port, other = rng.sample(range(1, 5), 2)
    server, wrong = f"10.200.7.{rng.randrange(1, 250)}", f"10.200.8.{rng.randrange(1, 250)}"
    key = rng.choice(["ntp-server", "syslog-server", "dns-server"])
    user, pier = f"crew{rng.randrange(100)}x", f"pier {rng.randrange(100, 900)} north"
    plans: list[tuple[str, _Edit, int]] = [
        (f"{key} to {server}", _set(key, server), rng.randrange(6, 18)),
        (f"{key} to {wrong}", _set(key, wrong), 1),
        (f"own network permitted to 10.200.{night}.0/24", _own_rule(f"10.200.{night}.0/24"), rng.randrange(2, 8)),
        ("mtu to 9000", _mtu(port, "9000"), rng.randrange(1, 4)),
        ("mtu to 1400", _mtu(other, "1400"), rng.randrange(1, 3)),
        (f"user {user}", _user(user, "viewer"), rng.randrange(1, 5)),
        (f"location {pier}", _set("location", pier), rng.randrange(1, 3)),
        (f"timeout {night}", _set("timeout", str(300 + night)), rng.randrange(1, 4)),
    ]
    if night % 5 == 0:
        plans.insert(0, ("opened", _opened, 1))
    return plans


def _set(key: str, value: str) -> _Edit:
    return lambda one: one.settings.update({key: value})


def _mtu(port: int, value: str) -> _Edit:
    return lambda one: one.port_mtu.update({port: value})


def _user(name: str, role: str) -> _Edit:
    return lambda one: one.users.update({name: role})


def _own_rule(target: str) -> _Edit:
    return lambda one: one.rules.append(f"permit tcp 10.{one.number}.3.0/24 {target} port 8443")


def _opened(one: Device) -> None:
    one.rules[2] = "permit ip 0.0.0.0/0 10.200.9.0/24"
