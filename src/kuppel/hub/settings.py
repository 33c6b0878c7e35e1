"""What a hub is told when it is started: by options, or by KUPPEL_* in its environment."""

import ipaddress
from pathlib import Path

from pydantic import Field, SecretStr, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict


class HubSettings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="KUPPEL_", extra="forbid")

    data: Path = Field(default=Path(".kuppel"), description="Folder of the database and the enrolment token.")
    host: str = Field(default="127.0.0.1", description="Address to listen on; loopback only.")
    port: int = Field(default=8470, ge=0, le=65_535, description="TCP port to listen on; 0 takes a free one.")
    web: Path | None = Field(default=None, description="Folder of the built web application.")
    enrolment_token: SecretStr | None = Field(default=None, description="Token that agents enrol with.")
    delivery_s: float = Field(
        default=10, ge=0, le=3600, description="Delivery time allowed before a stream is silent, in s."
    )
    keep_days: int = Field(default=400, ge=1, le=4000, description="Results older than this many days are refused.")
    is_synchronous_full: bool = Field(default=False, description="Wait for the disk at every commit (survives power loss).")
    log_level: str = Field(default="info", pattern="^(debug|info|warning|error)$")

    @field_validator("host")
    @classmethod
    def _is_loopback(cls, host: str) -> str:
        try:
            is_loopback = host == "localhost" or ipaddress.ip_address(host).is_loopback
        except ValueError:
            is_loopback = False
        if not is_loopback:
            raise ValueError(
                "it must be a loopback address, such as 127.0.0.1: until people sign in, a hub answers its own machine only"
            )
        return host
