"""Certificates for simulated servers."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

__all__ = ["SelfSigned"]

_LOOPBACK = [x509.DNSName("localhost"), x509.IPAddress(ip_address("127.0.0.1"))]


@dataclass(frozen=True)
class SelfSigned:
    """A certificate for localhost that nobody has signed but itself, with its key, as files."""

    certificate: Path
    key: Path
    fingerprint: str

    @classmethod
    def make(cls, folder: Path, name: str = "relay") -> "SelfSigned":
        """Write a new pair into the folder, as `name.crt` and `name.key`."""
        key = ec.generate_private_key(ec.SECP256R1())
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
        now = datetime.now(UTC)
        certificate = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=30))
            .add_extension(x509.SubjectAlternativeName(_LOOPBACK), critical=False)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .sign(key, hashes.SHA256())
        )
        files = folder / f"{name}.crt", folder / f"{name}.key"
        files[0].write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
        files[1].write_bytes(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        return cls(*files, fingerprint=f"SHA256:{certificate.fingerprint(hashes.SHA256()).hex()}")
