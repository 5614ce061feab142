"""What Brackwater's devices hold, and the estate file that describes them. All of it is made up."""

import random

__all__ = [
    "BALANCER",
    "DOORS",
    "ESTATE",
    "FILES",
    "PLACES",
    "ROUTERS",
    "SOURCE",
    "booking_export",
    "router_config",
    "rules",
    "switch_config",
]

ROUTERS = {
    "northmole-edge-1": ("northmole", "edge"),
    "northmole-quay-1": ("northmole", "quay"),
    "saltgate-edge-1": ("saltgate", "edge"),
    "saltgate-quay-1": ("saltgate", "quay"),
    "eider-yard-1": ("eider", "yard"),
    "office-edge-1": ("office", "edge"),
}
# Site and role of every device.
PLACES = {
    **ROUTERS,
    "northmole-balance-1": ("northmole", "balancer"),
    "eider-switch-1": ("eider", "switch"),
    "saltgate-wall-1": ("saltgate", "firewall"),
    "office-booking-1": ("office", "booking"),
}
BALANCER = {
    "pools.conf": "pool quay-app\n  member 10.20.4.20:443\n  member 10.20.4.22:443\n",
    "sites.conf": "site booking.brackwater.example\n  pool quay-app\n  certificate booking-2026\n",
}
FILES = {
    "purser.conf": "# Purser file server\nlisten = 10.20.4.10\nshare = manifests\nshare = tariffs\nworkers = 8\n",
    "shares/manifests.conf": "path = /srv/manifests\nwrite = quay-clerks\nread = office\n",
    "shares/tariffs.conf": "path = /srv/tariffs\nwrite = office\nread = everyone\n",
    "tariffs/summer.csv": "line,adult,child,car\nNorthmole-Saltgate,78,39,210\nSaltgate-Eider,64,32,185\n",
}
DOORS = "door,reader,opens\ngangway-1,inside,crew\nslipway-gate,both,yard\nfuel-point,outside,yard\nend\n"


def rules(*more: str) -> str:
    """The firewall's export."""
    lines = [
        '  <rule action="allow" name="quays" from="10.20.0.0/16" to="booking" port="443"/>',
        '  <rule action="allow" name="office" from="10.20.30.0/24" to="any" port="443"/>',
        *more,
        '  <rule action="deny" name="rest" from="any" to="any" port="any"/>',
    ]
    return '<?xml version="1.0"?>\n<rules>\n' + "\n".join(lines) + "\n</rules>\n"


def switch_config(vlan: int) -> str:
    """The switch's configuration."""
    ports = "".join(
        f'<port name="p{number}" mode="access"><vlan>{vlan if number == 3 else 110}</vlan></port>'
        for number in range(1, 9)
    )
    return f'<config xmlns="urn:brackwater:thole"><host>eider-switch-1</host><ports>{ports}</ports></config>'


def booking_export(week: int) -> bytes:
    """One of the booking server's ready-made exports."""
    sailings = "".join(
        f'  <sailing line="northmole-saltgate" at="{6 + 2 * n:02}:15" cars="{40 + n}"/>\n' for n in range(6)
    )
    return f'<booking made="week {week}">\n{sailings}</booking>\n'.encode()


def router_config(name: str, number: int) -> str:
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
    lines += ["access-list quay-in"]
    lines += [f"  permit 203.0.113.{rng.randrange(1, 254)} 10.20.{number}.0/24 port 443" for _ in range(6)]
    lines += ["  deny any any", "!"]
    lines += [f"route 10.{rng.randrange(21, 60)}.0.0/16 via 10.20.{number}.2" for _ in range(8)]
    lines += ["!", f"user config-reader level 1 password {rng.getrandbits(64):016x}", "!", "end"]
    return "\n".join(lines) + "\n"


ESTATE = """\
# Brackwater Ferries: two quays, a yard and an office. All of it is made up and simulated on this machine.

[estate]
name = "Brackwater Ferries"
time_zone = "Europe/Oslo"
{store}
at_once_by = {{ site = 4 }}      # no more than four devices of a site at the same time
prune = "after rounds"          # the service removes versions by retention
prove = "after rounds"          # and tries new versions, where their procedures say how

[defaults]
retention = "short"
timetable = "nightly"
max_age = "26h"

[credentials.devices]
user = "config-reader"
key = "file:keys/config-reader"
password = "file:keys/password"

[credentials.mail]
user = "historon"
password = "file:keys/mail"

[timetables.nightly]           # the demo plays the nights itself; historon serve would keep this
at = "02:30"
spread = "20m"

[retention.short]              # short, so that the demo has something to prune
all = "2d"
week = "1y"
at_least = 3

[procedures.capstan-router]
about = "An interactive command line with paging and a clock line."
over = "ssh-shell"
prompt = '^\\S+# ?$'
pager = '-- more --'
retry_pause = "100ms"          # before a failure that may pass is tried again; longer in earnest
steps = [
  {{ send = "paging off" }},
  {{ keep = "list settings active", as = "active.cfg", ends_with = "end" }},
]
push = [                       # how historon push sends an earlier version
  {{ send = "configure" }},
  {{ put = "lines", part = "active.cfg" }},
  {{ send = "end" }},
  {{ send = "save" }},
]
errors = ['^(Unknown|Error|There is no) ?']
noise = ['^! saved at ']
secret = ['monitor community (\\S+)']

[procedures.tidewall-firewall]
about = "An interface that gives a token, and moved its export with version 10."
over = "https"
retry_pause = "100ms"

[[procedures.tidewall-firewall.steps]]
send = "POST /api/session"
json = {{ user = "{{user}}", password = "{{password}}" }}
learn_secret = {{ token = "json:/session/token" }}

[[procedures.tidewall-firewall.steps]]
send = "GET /api/system"
headers = {{ x-tide-token = "{{token}}" }}
learn = {{ version = "json:/version" }}

[[procedures.tidewall-firewall.steps]]
keep = "GET /api/export"
headers = {{ x-tide-token = "{{token}}" }}
as = "rules.xml"
ends_with = "</rules>"
when = {{ version = '^9' }}

[[procedures.tidewall-firewall.steps]]
keep = "GET /api/v2/configuration"
headers = {{ x-tide-token = "{{token}}" }}
as = "rules.xml"
ends_with = "</rules>"
when = {{ version = '^1\\d' }}

[[procedures.tidewall-firewall.steps]]
tidy = "DELETE /api/session"
headers = {{ x-tide-token = "{{token}}" }}

[procedures.fairlead-balancer]
about = "A command that builds an archive, which is then fetched; and a table of connections for the record."
over = "ssh-exec"
steps = [
  {{ send = "archive make /export/now.tgz" }},
  {{ pull = "/export/now.tgz", as = "config.tgz" }},
  {{ keep = "connections list", as = "connections.txt", record_only = true }},
  {{ tidy = "archive remove /export/now.tgz" }},
]
proof = [["tar", "--list", "--file", "{{folder}}/config.tgz"]]

[procedures.pierglass-booking]
about = "A web application: log in by its form, then take the newest of its ready-made exports."
over = "https"
steps = [
  {{ send = "/login", learn_secret = {{ forgery = "xpath://input[@name='forgery']/@value" }} }},
  {{ send = "POST /login", form = {{ user = "{{user}}", password = "{{password}}", forgery = "{{forgery}}" }} }},
  {{ send = "/api/exports", learn = {{ exports = "json:/exports" }} }},
  {{ pick = "export", from = "exports", newest = "made" }},
  {{ pull = "/exports/{{export.file}}", as = "booking.xml" }},
]

[procedures.oilskin-doors]
about = "An access controller that can only push; complete when its marker is there."
over = "drop-folder"
folder = "simulated/drop"
then = "move"
steps = [{{ pull = "{{name}}-*.csv", as = "doors.csv", complete = "marker:{{file}}.done", ends_with = "end" }}]

[procedures.purser-files]
about = "A file server that is paused while its files are read, and looked after until it runs again."
over = "local"

[[procedures.purser-files.steps]]
pause = ["simulated/purser/purserctl", "pause"]
resume = ["simulated/purser/purserctl", "resume"]
probe = ["simulated/purser/purserctl", "state"]
until = {{ holds = ["is running"] }}
steps = [{{ pull = "simulated/purser/data", as = "purser" }}]

[[procedures.purser-files.steps]]
keep = ["/bin/uname", "-m"]
as = "machine.txt"

[[requirements]]
name = "time servers"
where = {{ role = "edge" }}
must = ['^time-server 10\\.20\\.0\\.\\d+$']

[[requirements]]
name = "nobody from outside"
procedure = "capstan-router"
must_not = ['^access-list quay-in / permit any ']
why = "ask the office before opening anything"

[[requirements]]
name = "ports are described"
procedure = "capstan-router"
each = '^interface port-\\d+$'
must = [' / description ']

{copy}
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
all_well = "7d"

[channels.record]
kind = "file"
path = "notices.jsonl"
immediately = true

[[sources]]
name = "purser-files"
procedure = "purser-files"
labels = {{ site = "office", role = "files" }}

[[sources]]
name = "eider-doors-1"
procedure = "oilskin-doors"
labels = {{ site = "eider", role = "doors" }}
"""
SOURCE = """\

[[sources]]
name = "{name}"
address = "127.0.0.1"
port = {port}
procedure = "{procedure}"
credentials = "devices"
{pin}
labels = {{ site = "{site}", role = "{role}" }}
"""

COPY = """[credentials.bucket]
user = "copier"
password = "file:keys/bucket"

[copies.lighter]
kind = "bucket"
url = "{bucket_url}"
credentials = "bucket"
"""

RESCUE = """# For a rebuild of the estate, should its machine be lost: keep it with the secrets, elsewhere.
[estate]
name = "rescue"

{copy}"""
