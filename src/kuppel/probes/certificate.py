"""What is told of a certificate (RFC 5280): its fingerprint, its issuer, when it expires, and how many days are left."""

from datetime import UTC, datetime

from cryptography import x509
from cryptography.hazmat.primitives import hashes


def certificate_facts(pem: str) -> dict[str, str]:
    """What is kept of a certificate: its SHA-256 fingerprint, its issuer, and when it expires."""
    leaf = x509.load_pem_x509_certificate(pem.encode())
    return {
        "certificate": leaf.fingerprint(hashes.SHA256()).hex(),
        "certificate_issuer": leaf.issuer.rfc4514_string()[:500],
        "certificate_expires": leaf.not_valid_after_utc.isoformat().replace("+00:00", "Z"),
    }


def certificate_names(pem: str) -> list[str]:
    """The names and addresses that a certificate is for (RFC 5280 §4.2.1.6)."""
    leaf = x509.load_pem_x509_certificate(pem.encode())
    try:
        names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return []
    return [*names.get_values_for_type(x509.DNSName), *map(str, names.get_values_for_type(x509.IPAddress))]


def told_of_chain(chain: tuple[str, ...], now_us: int) -> tuple[dict[str, str], dict[str, float]]:
    """Facts and quantities of the leaf certificate; both empty without one."""
    if not chain:
        return {}, {}
    facts = certificate_facts(chain[0])
    expires = datetime.fromisoformat(facts["certificate_expires"])
    now = datetime.fromtimestamp(now_us / 1e6, UTC)
    return facts, {"certificate_days": (expires - now).total_seconds() / 86_400}
