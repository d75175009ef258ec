"""Files that come in: streamed to the disk, never whole in memory."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from fastapi import UploadFile

from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Name
from fernfield.work.kernel.windows import reserve
from fernfield.work.studio import Studio
from fernfield.work.worlds.intake import Incoming


def kept_upload(studio: Studio, file: UploadFile) -> Path:
    """An upload, on the disk; whoever asked for it takes it away."""
    path = studio.data / "incoming" / secrets.token_hex(8)
    try:
        with path.open("wb") as out:
            if file.size:
                reserve(out.fileno(), file.size)
            while chunk := file.file.read(1 << 20):
                out.write(chunk)
            out.flush()
            os.fsync(out.fileno())
    except BaseException:
        # Nothing that came in by half stays.
        path.unlink(missing_ok=True)
        raise
    return path


class Named(Command):
    """What a file that comes in is called."""

    name: Name


@contextmanager
def upload(studio: Studio, file: UploadFile) -> Iterator[Path]:
    """An upload for as long as it is looked at."""
    path = kept_upload(studio, file)
    try:
        yield path
    finally:
        path.unlink(missing_ok=True)


def waiting_file(studio: Studio, file: UploadFile) -> Incoming:
    """An upload that waits to be read and placed."""
    return studio.waiting.add(kept_upload(studio, file), file.filename or "file")


def form_of(model: type[Command]) -> dict[str, Any]:
    """How a form with a file and the fields of a model is described in /openapi.json."""
    schema = model.model_json_schema()
    fields = {"file": {"type": "string", "format": "binary"}, **schema["properties"]}
    whole = {"type": "object", "properties": fields, "required": ["file", *schema.get("required", [])]}
    return {"requestBody": {"required": True, "content": {"multipart/form-data": {"schema": whole}}}}
