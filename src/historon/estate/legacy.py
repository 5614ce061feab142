"""Algorithms of SSH that are no longer offered by themselves, and that old devices have nothing better than."""

from collections.abc import Mapping

__all__ = ["LEGACY"]

# By kind: RFC 4253 sections 6.3 to 6.6 and 8, RFC 4419, RFC 9142 (which says why they went).
LEGACY: Mapping[str, str] = {
    "diffie-hellman-group1-sha1": "kex",
    "diffie-hellman-group14-sha1": "kex",
    "diffie-hellman-group-exchange-sha1": "kex",
    "ssh-rsa": "host key",
    "ssh-dss": "host key",
    "aes128-cbc": "cipher",
    "aes192-cbc": "cipher",
    "aes256-cbc": "cipher",
    "3des-cbc": "cipher",
    "hmac-sha1": "mac",
    "hmac-sha1-96": "mac",
    "hmac-md5": "mac",
}
