"""A Pennant mail relay: SMTP with STARTTLS and AUTH, which keeps what it receives. Made up."""

import logging
import socket
import ssl
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, Envelope, LoginPassword, Session

from historon.standins.certificates import SelfSigned

__all__ = ["Pennant"]


def _free_port() -> int:
    """A port that was free a moment ago: the library cannot be known to take any."""
    with socket.socket() as probe:
        probe.bind(("localhost", 0))
        return int(probe.getsockname()[1])


class Pennant:
    """The relay, in a thread of its own. Recipients in `unknown` are refused, those in `busy` are to be tried later.

    One that is `curt` takes no leave as it should. Of each of its `letters`, `recipients` are those it was taken for.
    """

    def __init__(self, tls: SelfSigned, *, user: str = "historon", password: str = "signal-flag") -> None:
        self.letters: list[EmailMessage] = []
        self.recipients: list[tuple[str, ...]] = []
        self.unknown: set[str] = set()
        self.busy: set[str] = set()
        self.curt = False
        self.tls = tls
        self._login = (user, password)
        logging.getLogger("mail.log").setLevel(logging.ERROR)  # the library warns of an attribute of its own
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(tls.certificate, tls.key)
        self._controller = Controller(
            self,
            hostname="localhost",
            port=_free_port(),
            tls_context=context,
            require_starttls=True,
            authenticator=self._authenticate,
            auth_required=True,
            auth_require_tls=True,
        )

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
        if address in self.busy:
            return "451 try again later"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_QUIT(self, _server: object, _session: Session, _envelope: Envelope) -> str:  # noqa: N802
        """Take leave."""
        return "500 what is that" if self.curt else "221 fair winds"

    async def handle_DATA(self, _server: object, _session: Session, envelope: Envelope) -> str:  # noqa: N802
        """Keep a letter."""
        content = envelope.content
        assert isinstance(content, bytes)  # noqa: S101
        self.letters.append(message_from_bytes(content, policy=default))
        self.recipients.append(tuple(envelope.rcpt_tos))
        return "250 kept"
