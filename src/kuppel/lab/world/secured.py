"""Certificates that the world's applications show, and why a client would not accept one."""

from datetime import UTC, datetime, timedelta
from functools import cached_property

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from kuppel.core.duration import DAY_US
from kuppel.lab.authority import Authority
from kuppel.lab.world.world import World
from kuppel.probes.certificate import certificate_names

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_KEPT_DAYS = 90


class Chains:
    """What each application of a world shows at a time."""

    def __init__(self, world: World) -> None:
        self._world = world

    @cached_property
    def authority(self) -> Authority:
        return Authority(seed=f"{self._world.seed}/authority")

    def shown(self, application: str, time_us: int) -> tuple[str, ...]:
        """The chain as PEM, the leaf first; empty where no TLS is spoken."""
        found = self._world.certificate(application, time_us)
        if found is None:
            return ()
        effect = self._world.effects.now("expiry", application, time_us)
        if effect is None:
            return found.chain
        # A forgotten renewal: a certificate for the same names that ends sooner.
        end_us = effect.from_us + round(effect.value * DAY_US)
        return self._kept(found.chain, end_us)

    def _kept(self, chain: tuple[str, ...], end_us: int) -> tuple[str, ...]:
        names = certificate_names(chain[0])
        return (issued(self.authority, names, end_us, _KEPT_DAYS), *chain[1:])

    def refusal(self, chain: tuple[str, ...], name: str, time_us: int) -> str:
        """Why a client that asked for a name would not accept it; empty when it would."""
        leaf = x509.load_pem_x509_certificate(chain[0].encode())
        now = _EPOCH + timedelta(microseconds=time_us)
        if now > leaf.not_valid_after_utc:
            return "certificate has expired"
        if now < leaf.not_valid_before_utc:
            return "certificate is not yet valid"
        if name not in certificate_names(chain[0]):
            return f"the certificate is not for {name}"
        return ""


def issued(authority: Authority, names: list[str], end_us: int, days: float) -> str:
    """A certificate for names that ends at a moment and was issued so many days before, as PEM."""
    end = (_EPOCH + timedelta(microseconds=end_us)).replace(microsecond=0)
    return authority.issue_between(names, end - timedelta(days=days), end).public_bytes(Encoding.PEM).decode()
