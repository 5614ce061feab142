"""A Pennant mail relay: SMTP with STARTTLS and AUTH, which keeps what it receives. Made up."""

import logging
import socket
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, Envelope, LoginPassword, Session
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

__all__ = ["Pennant", "SelfSigned"]


@dataclass(frozen=True)
class SelfSigned:
    """A certificate for localhost that nobody has signed but itself, with its key, as files."""

    certificate: Path
    key: Path
    fingerprint: str

    @classmethod
    def make(cls, folder: Path) -> "SelfSigned":
        """Write a new pair into the folder."""
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
        now = datetime.now(UTC)
        certificate = (
            x509.CertificateBuilder()
            .subject_name(name).issuer_name(name).public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=30))
            .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .sign(key, hashes.SHA256())
        )  # fmt: skip
        files = folder / "relay.crt", folder / "relay.key"
        files[0].write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
        files[1].write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        return cls(*files, fingerprint=f"SHA256:{certificate.fingerprint(hashes.SHA256()).hex()}")


def _free_port() -> int:
    """A port that was free a moment ago: the library cannot be told to take any."""
    with socket.socket() as probe:
        probe.bind(("localhost", 0))
        return int(probe.getsockname()[1])


class Pennant:
    """The relay, in a thread of its own. Recipients in `unknown` are refused."""

    def __init__(self, tls: SelfSigned, *, user: str = "historon", password: str = "signal-flag") -> None:
        self.letters: list[EmailMessage] = []
        self.unknown: set[str] = set()
        self.tls = tls
        self._login = (user, password)
        logging.getLogger("mail.log").setLevel(logging.ERROR)  # the library warns of an attribute of its own
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(tls.certificate, tls.key)
        self._controller = Controller(
            self, hostname="localhost", port=_free_port(), tls_context=context, require_starttls=True,
            authenticator=self._authenticate, auth_required=True, auth_require_tls=True,
        )  # fmt: skip

    @property
    def port(self) -> int:
        """Where it listens."""
        return self._controller.port

    def start(self) -> None:
        """Listen on a free port of loopback."""
        self._controller.start()

    def stop(self) -> None:
        """Stop listening."""
        self._controller.stop()

    def _authenticate(
        self, _server: object, _session: Session, _envelope: Envelope, _mechanism: str, data: object
    ) -> AuthResult:
        good = isinstance(data, LoginPassword) and (data.login.decode(), data.password.decode()) == self._login
        return AuthResult(success=good, handled=False)

    async def handle_RCPT(  # noqa: N802 (the library's name)
        self, _server: object, _session: Session, envelope: Envelope, address: str, _options: list[str]
    ) -> str:
        """Accept a recipient, or not."""
        if address in self.unknown:
            return "550 nobody of that name here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, _server: object, _session: Session, envelope: Envelope) -> str:  # noqa: N802
        """Keep a letter."""
        content = envelope.content
        assert isinstance(content, bytes)  # noqa: S101
        self.letters.append(message_from_bytes(content, policy=default))
        return "250 kept"
