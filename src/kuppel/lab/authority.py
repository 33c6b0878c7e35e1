"""A made-up certificate authority for the stand-ins."""

import datetime
import ipaddress
from dataclasses import dataclass

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

_AUTHORITY_DAYS = 3650


@dataclass(frozen=True, slots=True)
class Credential:
    """A certificate with its key, both PEM."""

    certificate: str
    key: str


class Authority:
    """Issues certificates for names and addresses, valid from and until wherever a test or the demo wants."""

    def __init__(self, common_name: str = "Fjord Trust (made up)") -> None:
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, common_name)])
        now = datetime.datetime.now(datetime.UTC)
        self._certificate = (
            self._builder(self._name, self._key.public_key(), now, now + datetime.timedelta(days=_AUTHORITY_DAYS))
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(_usage(is_authority=True), critical=True)
            .sign(self._key, hashes.SHA256())
        )

    @property
    def certificate(self) -> str:
        return self._certificate.public_bytes(serialization.Encoding.PEM).decode()

    def issue(self, names: list[str], *, days: float = 90, since_days: float = 19) -> Credential:
        """A server certificate for names and IP addresses, issued `since_days` ago and valid for `days` from now."""
        key = ec.generate_private_key(ec.SECP256R1())
        now = datetime.datetime.now(datetime.UTC)
        alternatives: list[x509.GeneralName] = [_general_name(name) for name in names]
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0])])
        certificate = (
            self._builder(
                subject, key.public_key(), now - datetime.timedelta(days=since_days), now + datetime.timedelta(days=days)
            )
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(_usage(is_authority=False), critical=True)
            .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .sign(self._key, hashes.SHA256())
        )
        private = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
        return Credential(certificate.public_bytes(serialization.Encoding.PEM).decode(), private.decode())

    def _builder(
        self,
        subject: x509.Name,
        key: ec.EllipticCurvePublicKey,
        start: datetime.datetime,
        end: datetime.datetime,
    ) -> x509.CertificateBuilder:
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(self._name)
            .public_key(key)
            .serial_number(x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(end)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(self._key.public_key()), critical=False)
        )


def _usage(*, is_authority: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not is_authority,
        key_cert_sign=is_authority,
        crl_sign=is_authority,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        encipher_only=False,
        decipher_only=False,
    )


def _general_name(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)
