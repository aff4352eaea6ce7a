"""Every setting, once: name, default, help and environment name (GLEANER_ and the name in capitals)."""

from __future__ import annotations

from functools import cached_property
from ipaddress import IPv4Network, IPv6Network, ip_network
from pathlib import Path
from typing import Literal

from pydantic import Field, field_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

DEFAULT_PORT = 8642
LOOPBACK_HOSTS = ("127.0.0.1", "::1", "localhost")


class Settings(BaseSettings):
    """Read from the environment at start-up and passed in. Unknown GLEANER_ names are ignored by the environment."""

    model_config = SettingsConfigDict(env_prefix="GLEANER_", extra="forbid")

    home: Path = Field(Path(".state"), description="State folder: database cluster, artefacts, uploads, logs.")
    database_url: str | None = Field(None, description="A PostgreSQL to use; without one, `up` starts its own.")
    artefacts: str | None = Field(None, description="fsspec URL of the artefact root; default: a folder in the home.")
    host: str = Field("127.0.0.1", description="Address to listen on.")
    port: int = Field(DEFAULT_PORT, ge=0, le=65535, description="Port to listen on.")
    auth: Literal["auto", "required"] = Field(
        "auto", description="auto: no key is needed from this machine while listening on loopback only."
    )
    trusted_proxies: str = Field(
        "",
        description="Addresses or networks, separated by blanks, of proxies whose word on the caller's address and on "
        "https counts; keys are needed behind one.",
    )
    connections_per_address: int = Field(
        500,
        ge=1,
        description="Connections that one address may have open to a serving process; trusted proxies have no limit.",
    )
    max_upload_bytes: int = Field(20 * 2**30, ge=1, description="Largest file taken.")
    max_body_bytes: int = Field(4 * 2**20, ge=1, description="Largest JSON body taken.")
    sources: str = Field(
        "",
        description="Places (URLs, separated by blanks) under which a key with the scope build may import from; admin: "
        "any. A network among them, such as 10.0.0.0/8, allows such places to be at its private addresses.",
    )
    targets: str = Field(
        "",
        description="The same for exports to places outside.",
    )
    source_timeout_s: float = Field(300.0, gt=0, description="Longest query of a database that is imported from.")
    text_encoders: Path | None = Field(
        None,
        description="Folder of the text encoders that models may name, each a folder with model.onnx and "
        "tokenizer.json; default: text-encoders in the home.",
    )
    serving: int = Field(1, ge=1, le=64, description="Serving processes; they share the memory of model files.")
    live_events: int = Field(
        500_000, ge=1, description="Newest events of a dataset that a serving process holds, about 300 bytes each."
    )
    query_seconds: float = Field(20.0, gt=0, description="Longest SQL query over a dataset.")
    query_memory_mb: int = Field(2048, ge=64, description="Most memory of one SQL query over a dataset.")
    train_seconds: float = Field(3600.0, gt=0, description="A fit estimated to take longer must be confirmed.")
    train_memory_mb: int = Field(0, ge=0, description="The same for memory; 0: three quarters of this machine's.")
    job_memory_mb: int = Field(
        0,
        ge=0,
        description="Most memory of one job, which else fails; 0: three quarters of this machine's.",
    )
    keep_lists_days: float = Field(400.0, gt=0, description="Days after which the log forgets a served list.")
    keep_audit_days: float = Field(400.0, gt=0, description="Days after which the record of writes forgets one.")
    heartbeat_s: float = Field(2.0, gt=0, description="Seconds between signs of life of a worker.")
    stalled_after_s: float = Field(10.0, gt=0, description="Seconds of silence after which a worker counts as lost.")
    max_attempts: int = Field(3, ge=1, description="How often a job whose worker was lost is taken up again.")
    cancel_grace_s: float = Field(5.0, gt=0, description="Seconds a cancelled job gets to stop by itself.")

    @field_validator("trusted_proxies")
    @classmethod
    def _networks(cls, given: str) -> str:
        for each in given.split():
            ip_network(each, strict=False)
        return given

    @cached_property
    def proxies(self) -> tuple[IPv4Network | IPv6Network, ...]:
        """The networks of `trusted_proxies`."""
        return tuple(ip_network(each, strict=False) for each in self.trusted_proxies.split())

    @property
    def text_encoder_root(self) -> Path:
        """The folder of text encoders, defaulted."""
        return self.text_encoders or self.home.resolve() / "text-encoders"

    @property
    def artefact_root(self) -> str:
        """The artefact root, defaulted."""
        return self.artefacts or str(self.home.resolve() / "artefacts")

    @property
    def uploads(self) -> Path:
        """Where uploaded bytes wait for their import."""
        return self.home.resolve() / "uploads"

    @property
    def staging(self) -> Path:
        """Where running jobs write before anything is kept."""
        return self.home.resolve() / "staging"

    def parts(self, job_id: int) -> Path:
        """Where the parts of an export are, whichever attempt at the job makes them."""
        return self.staging / f"parts-{job_id}"

    @property
    def listens_beyond_loopback(self) -> bool:
        """Whether other machines can reach the service."""
        return self.host not in LOOPBACK_HOSTS

    @property
    def keys_required(self) -> bool:
        """Whether every request needs a key."""
        return self.auth == "required" or self.listens_beyond_loopback or bool(self.trusted_proxies)

    @property
    def locks_end_after_s(self) -> float:
        """How long a transaction of a worker may stand still: a worker that was stopped in the midst of one must not
        hold up whoever takes its job over."""
        return 2 * self.stalled_after_s

    def require_database_url(self) -> str:
        """The database URL. Raises RuntimeError when nothing set it."""
        if not self.database_url:
            raise RuntimeError("no database: set GLEANER_DATABASE_URL, or start everything with `gleaner up`")
        return self.database_url
