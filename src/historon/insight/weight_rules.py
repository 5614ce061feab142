"""What matters first: the rules by which changes are weighed.

Each says how grave it is, from 0 to 9, that the words of a pattern were added, that they were removed, and that a value
beside them was edited; and why, in a few words. What opens weighs more than what closes. Of the rules that are met the
gravest counts, of equal ones the first.

A pattern is searched in each line behind its headings, in small letters. A line that takes back what it names, such as
`no logging host`, counts as gone when it comes. {words} stand for those below.
"""

# fmt: off
# ruff: noqa: E501 (a pattern is one line)

from typing import Any

__all__ = ["WEIGHTS", "WORDS"]

WORDS = {
    "any": r"(?:any|all|everyone|world|0\.0\.0\.0(?:/0| 0\.0\.0\.0)|::/0)",
    "bound": r"(?:^|[^\w.:/])",  # before a word or an address
    "end": r"(?:$|[^\w./-])",
    "gives": r'[\w-]*["\x27]?[\s:=,/>-]+["\x27]?',  # between a setting and its value, in most languages
    "off": "(?:off|no|none|false|disabled?|never|0)",
    "on": "(?:on|yes|true|enabled?|1)",
}

# Each pattern with its number and reason for what was added, removed and edited.
WEIGHTS: tuple[dict[str, Any], ...] = (
    {"about": "access", "pattern": r"\b(?:permit|allow|accept|pass|grant)(?:ed|s)?\b.*{bound}{any}{end}", "added": (9, "permits any"), "removed": (4, "no longer permits any"), "edited": (6, "a rule for any")},
    {"about": "access", "pattern": r"\b(?:from|to|sources?|src|destinations?|dest|dst|peers?|networks?|cidr\w*|ranges?|clients?|hosts?|hosts?[-_]allow|trusted\w*){gives}(?:.*{bound})?{any}{end}", "added": (8, "opened to any"), "removed": (4, "no longer open to any")},
    {"about": "access", "pattern": r"\b(?:deny|denied|drop|reject|block|discard|refuse)(?:ed|s)?\b", "added": (4, "denied"), "removed": (8, "no longer denied"), "edited": (5, "a rule that denies")},
    {"about": "access", "pattern": r"\b(?:permit|allow|accept)(?:ed|s)?\b", "added": (6, "permits more"), "removed": (4, "permits less"), "edited": (6, "a rule that permits")},
    {"about": "access", "pattern": r"\b(?:nopasswd|no_root_squash|nullok)\b|!authenticate", "added": (9, "no password asked"), "removed": (4, "a password is asked again")},
    {"about": "access", "pattern": r"\bpermit-?root-?login{gives}(?:yes|prohibit-password|without-password)|\broot[-_ ]login{gives}{on}{end}", "added": (9, "root may log in"), "removed": (4, "root may not log in")},
    {"about": "access", "pattern": "(?:password[-_]?authentication|permit-?empty-?passwords?|anonymous(?:[-_]?enable)?|allow[-_]?anonymous|guest(?:[-_ ]ok)?){gives}{on}{end}", "added": (8, "log-in made easier"), "removed": (4, "log-in made harder")},
    {"about": "access", "pattern": r"^(?:.* / )?(?:local|host(?:no)?(?:ssl)?)\s.*\strust\s*$|\bsatisfy\W+any\b|\bauth(?:entication)?\W+none\b", "added": (9, "log-in without a password"), "removed": (4, "log-in with a password again")},
    {"about": "access", "pattern": r"\b(?:tls|ssl|cert\w*|peer|host|client|server|proxy|repo|gpg|signature)?[-_]?(?:verify|verification|validat\w*|strict\w*|check[-_]?cert\w*|hostname[-_]?check\w*|reject[-_]?unauthori[sz]ed){gives}{off}{end}|\b\w*(?:tls|ssl|cert|peer|host|client|server|http|https)[-_]?verify\w*{gives}{off}{end}", "added": (8, "verification switched off"), "removed": (3, "verification switched on")},
    {"about": "access", "pattern": r"\b\w*(?:insecure\w*|skip[-_]?verify){gives}{on}{end}", "added": (8, "verification switched off"), "removed": (3, "verification switched on")},
    {"about": "access", "pattern": r"\b(?:firewall|selinux|apparmor|modsecurity|ips|ids|antivirus|inspection|protection|fail2ban){gives}(?:{off}|permissive){end}", "added": (9, "protection switched off"), "removed": (3, "protection switched on")},
    {"about": "access", "pattern": r'\b(?:listen\w*|bind\w*|inet_interfaces){gives}(?:.*[^\w.:/])?(?:0\.0\.0\.0(?:$|[:\s\"\x27;,])|\*|\[?::\]?(?:$|[\s\"\x27;,]|:\d)|all\b)', "added": (8, "listens on all addresses"), "removed": (3, "no longer listens on all addresses")},
    {"about": "access", "pattern": r"\bprivilege(?:-level)?\W+15\b|\b(?:role|group|class|profile|level)\w*\W+(?:\w+[-_])?(?:admin\w*|super\w*|root|wheel|sudo)\b|\b(?:superuser|is_admin|createrole)\b|\ball\s*=\s*\(", "added": (8, "gives all rights"), "removed": (4, "takes rights away"), "edited": (7, "full rights edited")},
    {"about": "access", "pattern": r"\btelnet\b|\bhttp[-_ ]server\b|\b(?:rsh|rlogin|tftp|ftp)\b", "added": (8, "a service without encryption"), "removed": (3, "one service without encryption less"), "edited": (5, "a service without encryption")},
    {"about": "access", "pattern": r"\b(?:des|3des|rc4|md5|sha-?1|sslv[23]|ssl3|tls1[-_][01]|null|arcfour\w*|modp(?:768|1024)|dh-?group-?[125]|diffie-hellman-group1-sha1|export40|blowfish|noauth\w*|v2c)\b|\btlsv?\W?1(?:\.[01])?{end}|\btls\w*\W+1(?:\.[01])?{end}", "added": (7, "weaker encryption"), "removed": (3, "stronger encryption"), "edited": (5, "encryption edited")},
    {"about": "access", "pattern": r"\b(?:\w*ssl|\w*tls|starttls|encrypt\w*|use[-_]?tls|require[-_]?ssl|signing|sasl){gives}{off}{end}", "added": (8, "encryption switched off"), "removed": (3, "encryption switched on")},
    {"about": "secret", "pattern": r"\b(?:certificates?|certs?|trustpoint|pki|x509|authorized_keys?|ssl_certificate\w*|cacert|ca[-_]?file|crt|pem)\b", "added": (6, "a new certificate"), "removed": (6, "a certificate went"), "edited": (6, "a certificate replaced")},
    {"about": "secret", "pattern": r"\b(?:secrets?|passwords?|passwd|passphrase|key|psk|pre-shared-key|community|token)\b|\[secret", "added": (6, "a new secret"), "removed": (6, "a secret went"), "edited": (6, "a secret replaced")},
    {"about": "access", "pattern": r"\b(?:aaa|radius|tacacs\w*|ldap|pam_\w+|kerberos|saml|mfa|otp|authentication|auth)\b", "added": (6, "log-in edited"), "removed": (7, "log-in edited"), "edited": (6, "log-in edited")},
    {"about": "access", "pattern": r"\b(?:user(?:name)?s?|accounts?|admins?|operators?|login|sudoers|allowusers|allowgroups)\b", "added": (7, "an account came"), "removed": (5, "an account went"), "edited": (6, "an account edited")},
    {"about": "access", "pattern": r"\b(?:acl|access[-_]?(?:list|group|class|control)?|filter|firewall|zone|policy|nat|masquerade|vpn|tunnel|ipsec|snmp\w*|roles?|trusted|rule)\b", "added": (5, ""), "removed": (5, ""), "edited": (5, "")},
    {"about": "route", "pattern": r"\b(?:route|static)\b.*[^\w.:/](?:0\.0\.0\.0(?:[/ ]0(?:\.0\.0\.0)?)|default|::/0)(?:$|[^\w.])|\bdefault[-_ ](?:gateway|router|route)\b|\bgateway[46]?\b", "added": (8, "the default route"), "removed": (8, "the default route"), "edited": (8, "the default route")},
    {"about": "route", "pattern": r"\b(?:routes?|bgp|ospf\w*|isis|rip|neighbou?r|static|next-?hop|redistribute|prefix-list|route-map)\b", "added": (5, "routes"), "removed": (5, "routes"), "edited": (5, "routes")},
    {"about": "access", "pattern": r"\b(?:\w*log\w*|syslog\w*|audit\w*|accounting|monitor(?:ing)?|traps?){gives}{off}{end}", "added": (7, "logging switched off"), "removed": (3, "logging switched on")},
    {"about": "access", "pattern": r"\b(?:log(?:ging)?|syslog|rsyslog|audit\w*|accounting|traps?|loghost)\b", "added": (3, ""), "removed": (7, "no longer logged"), "edited": (4, "logging edited")},
    {"about": "other", "pattern": r"\b(?:shutdown|disabled?)\b", "added": (5, "switched off"), "removed": (5, "switched on")},
)
