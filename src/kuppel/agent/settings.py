"""What an agent is told when it is started: by options, or by KUPPEL_AGENT_* in its environment."""

import socket
from pathlib import Path
from typing import Literal

from pydantic import Field, SecretStr
from pydantic_settings import BaseSettings, SettingsConfigDict


class AgentSettings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="KUPPEL_AGENT_", extra="forbid")

    hub: str = Field(pattern=r"^https?://", description="The hub's address.")
    token: SecretStr = Field(default=SecretStr(""), description="Enrolment token; needed until the agent has its own.")
    name: str = Field(default_factory=socket.gethostname, min_length=1, max_length=80)
    kind: Literal["public", "site", "mobile", "personal"] = "site"
    place: str = ""
    provider: str = ""
    country: str = ""
    person: str = ""
    state: Path = Field(default=Path("kuppel-agent"), description="Folder for the agent's token and spool.")
    source: str | None = Field(default=None, description="Source address of probes that are bound to nothing themselves.")
    gpsd: str | None = Field(
        default=None,
        pattern=r"^(\[[0-9a-fA-F:]+\]|[^:\s]+):\d{1,5}$",
        description="HOST:PORT of a gpsd that knows where this machine is; for machines that move.",
    )
    authority: Path | None = Field(default=None, description="Certificates (PEM) to trust for the hub.")
    reflect_port: int | None = Field(
        default=None, ge=0, le=65_535, description="UDP port on which to answer two-way test packets; none if left out."
    )
    speech_port: int | None = Field(
        default=None, ge=0, le=65_535, description="UDP port on which to send speech back; none if left out."
    )
    data_port: int | None = Field(
        default=None, ge=0, le=65_535, description="TCP port for throughput probes of others; none if left out."
    )
    reflect_key: SecretStr | None = Field(
        default=None,
        min_length=8,
        max_length=128,
        description="Shared key of those whose two-way packets and data are taken.",
    )
    clock_error_us: int | None = Field(
        default=None,
        ge=1,
        le=10_000_000,
        description="How far this machine's clock may be off UTC, in µs, when that is known.",
    )
    most_results: int = Field(default=500_000, ge=100, description="Results kept at most while the hub is away.")
    most_details: int = Field(default=50_000, ge=0, description="Of these, how many keep their detail.")
