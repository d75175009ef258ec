"""What can be set from outside: by option, or by an environment variable FERNFIELD_…"""

from __future__ import annotations

from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """host, port : where to listen; data : the one folder that everything is kept in; logbook_mib : how large the
    logbook of a world may become before its oldest revisions are folded together; upload_mib : largest upload;
    workers : processes that long work runs on (0: threads of this one); cluster : the scheduler of a Dask cluster that
    it runs on instead, as tcp://host:port; phrase, look_phrase : what has to be said to come in, and to come in to look
    only; names : host names that the server answers to, with commas between; certificate, key : files to speak TLS
    with; log : whether a line of JSON is written for each request and job."""

    model_config = SettingsConfigDict(env_prefix="FERNFIELD_")

    host: str = "127.0.0.1"
    port: int = Field(default=8127, ge=0, le=65_535)
    data: Path = Path.home() / ".fernfield"
    logbook_mib: int = Field(default=1024, ge=1, le=1_048_576)
    upload_mib: int = Field(default=2048, ge=1, le=65_536)
    workers: int = Field(default=0, ge=0, le=256)
    phrase: str = Field(default="", max_length=1000)
    look_phrase: str = Field(default="", max_length=1000)
    names: str = Field(default="", max_length=2000)
    certificate: Path | None = None
    key: Path | None = None
    log: bool = False
    cluster: str = Field(default="", max_length=200, pattern=r"^$|^(tcp|tls|ws|wss)://\S+$")
