"""What a hub is told when it is started: by options, or by KUPPEL_* in its environment."""

import ipaddress
from pathlib import Path
from typing import Self

from pydantic import BaseModel, Field, field_validator, model_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

from kuppel.core.access import Role, SessionLife
from kuppel.core.duration import DAY_US, MINUTE_US
from kuppel.store.compaction import Keep


class DemoPerson(BaseModel):
    """Somebody of the demo, whose password the sign-in page tells."""

    name: str
    full_name: str
    role: Role
    password: str


class HubSettings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="KUPPEL_", extra="forbid")

    data: Path = Field(default=Path(".kuppel"), description="Folder of the database and the key file.")
    database_url: str | None = Field(
        default=None, pattern="^postgresql://", description="A PostgreSQL database, instead of a file in the folder."
    )
    readers: int = Field(default=2, ge=0, le=64, description="Processes that read; 0 reads in the hub's own.")
    host: str = Field(default="127.0.0.1", description="Address to listen on; other than loopback, TLS is needed.")
    port: int = Field(default=8470, ge=0, le=65_535, description="TCP port to listen on; 0 takes a free one.")
    names: list[str] = Field(default_factory=list, description="Names by which browsers and agents reach this hub.")
    site: str = Field(default="", max_length=80, description="Whose hub this is, for the sign-in page.")
    tls_cert: Path | None = Field(default=None, description="Certificate chain (PEM).")
    tls_key: Path | None = Field(default=None, description="Private key (PEM).")
    trusted_proxies: list[str] = Field(
        default_factory=list, description="Addresses or networks of proxies whose forwarded headers are believed."
    )
    web: Path | None = Field(default=None, description="Folder of the built web application.")
    session_idle_min: int = Field(default=60, ge=5, le=1440, description="A session ends when unused for so long, in min.")
    session_most_h: int = Field(default=12, ge=1, le=168, description="A session ends after so long, used or not, in h.")
    delivery_s: float = Field(
        default=10, ge=0, le=3600, description="Delivery time allowed before a stream is silent, in s."
    )
    keep_days: int = Field(default=400, ge=1, le=4000, description="Results are kept this long, and refused when older.")
    keep_details_days: int = Field(default=35, ge=1, le=4000, description="What explains single runs is kept this long.")
    keep_summaries_days: int = Field(default=800, ge=1, le=4000, description="Summaries of hours are kept this long.")
    is_synchronous_full: bool = Field(default=False, description="Wait for the disk at every commit (survives power loss).")
    log_level: str = Field(default="info", pattern="^(debug|info|warning|error)$")
    demo_people: list[DemoPerson] = Field(default_factory=list, description="People of the demo; on loopback only.")

    @field_validator("trusted_proxies")
    @classmethod
    def _are_networks(cls, proxies: list[str]) -> list[str]:
        for one in proxies:
            try:
                ipaddress.ip_network(one)
            except ValueError:
                raise ValueError(f"{one} must be an IP address or network, such as 192.0.2.8 or 192.0.2.0/28") from None
        return proxies

    @model_validator(mode="after")
    def _is_safe(self) -> Self:
        if (self.tls_cert is None) != (self.tls_key is None):
            raise ValueError("tls_cert and tls_key go together: give both, or neither")
        if not self.is_loopback:
            if self.tls_cert is None and not self.trusted_proxies:
                raise ValueError(
                    f"host {self.host} is not loopback: passwords must not travel in the clear. Give --tls-cert and"
                    " --tls-key, or name the proxy that ends TLS with KUPPEL_TRUSTED_PROXIES"
                )
            if self.demo_people:
                raise ValueError("demo_people have known passwords: they are for a loopback host only")
        return self

    @property
    def is_loopback(self) -> bool:
        try:
            return self.host == "localhost" or ipaddress.ip_address(self.host).is_loopback
        except ValueError:
            return False

    @property
    def is_behind_tls(self) -> bool:
        """Whether browsers reach it by https, here or at the proxy in front."""
        return self.tls_cert is not None or bool(self.trusted_proxies)

    @property
    def keep(self) -> Keep:
        return Keep(*(one * DAY_US for one in (self.keep_details_days, self.keep_days, self.keep_summaries_days)))

    @property
    def session_life(self) -> SessionLife:
        return SessionLife(self.session_idle_min * MINUTE_US, self.session_most_h * 60 * MINUTE_US)
