"""A made-up certificate authority for the stand-ins."""

import datetime
import hashlib
import ipaddress
from dataclasses import dataclass

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

_AUTHORITY_DAYS = 3650
_SEEDED_START = datetime.datetime(2025, 1, 1, tzinfo=datetime.UTC)


@dataclass(frozen=True, slots=True)
class Credential:
    """A certificate with its key, both PEM."""

    certificate: str
    key: str


class Authority:
    """Issues certificates for names and addresses, valid from and until wherever a test or the demo wants."""

    def __init__(self, common_name: str = "Fjord Trust (made up)", *, seed: str = "") -> None:
        self._seed = seed
        self._key = _new_key(seed)
        self._name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, common_name)])
        start = _SEEDED_START if seed else datetime.datetime.now(datetime.UTC)
        self._certificate = (
            self._builder(self._name, self._key.public_key(), start, start + datetime.timedelta(days=_AUTHORITY_DAYS))
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(_usage(is_authority=True), critical=True)
            .sign(self._key, hashes.SHA256(), ecdsa_deterministic=True)
        )

    @property
    def certificate(self) -> str:
        return self._certificate.public_bytes(serialization.Encoding.PEM).decode()

    def issue(self, names: list[str], *, days: float = 90, since_days: float = 19) -> Credential:
        """A server certificate for names and IP addresses, issued `since_days` ago and valid for `days` from now."""
        key = _new_key("")
        now = datetime.datetime.now(datetime.UTC)
        certificate = self._issued(
            names, now - datetime.timedelta(days=since_days), now + datetime.timedelta(days=days), key
        )
        private = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
        return Credential(certificate.public_bytes(serialization.Encoding.PEM).decode(), private.decode())

    def issue_between(self, names: list[str], start: datetime.datetime, end: datetime.datetime) -> x509.Certificate:
        """A server certificate without its key, valid between two moments; the same one each time where there is a seed."""
        return self._issued(names, start, end, _new_key(f"{self._seed}/{names}/{end}" if self._seed else ""))

    def _issued(
        self, names: list[str], start: datetime.datetime, end: datetime.datetime, key: ec.EllipticCurvePrivateKey
    ) -> x509.Certificate:
        alternatives: list[x509.GeneralName] = [_general_name(name) for name in names]
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0])])
        return (
            self._builder(subject, key.public_key(), start, end)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(_usage(is_authority=False), critical=True)
            .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .sign(self._key, hashes.SHA256(), ecdsa_deterministic=True)
        )

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
            .serial_number(_number(f"{self._seed}/{subject}/{end}") if self._seed else x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(end)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(self._key.public_key()), critical=False)
        )


def _new_key(seed: str) -> ec.EllipticCurvePrivateKey:
    """A new key, or the one of a seed: whoever knows the seed knows the key, which is for made-up worlds alone."""
    return ec.derive_private_key(_number(seed), ec.SECP256R1()) if seed else ec.generate_private_key(ec.SECP256R1())


def _number(seed: str) -> int:
    """Between 1 and 2¹⁵⁸: below the order of the curve, and what a serial number may be (RFC 5280 §4.1.2.2)."""
    return 1 + (int.from_bytes(hashlib.sha256(seed.encode()).digest(), "big") >> 98)


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
