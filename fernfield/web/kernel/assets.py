"""Scripts and styles under names that carry their hash: a browser that has them once never asks again.

`/at/{hash}/static/…` and `/at/{hash}/rooms/…` are the files of `/static` and `/rooms`. Scripts import each other by the
plain names; the page's import map says where those lie. Read when the application starts.
"""

from __future__ import annotations

import base64
import hashlib
import json
from functools import cache
from pathlib import Path

WEB = Path(__file__).parent.parent
KEPT_FOR_GOOD = "public, max-age=31536000, immutable"


@cache
def at() -> str:
    """The path below which the files lie, as they were when this was first asked."""
    files = sorted(p for p in (*WEB.glob("static/**/*"), *WEB.glob("rooms/**/*.js")) if p.is_file())
    seen = hashlib.sha256()
    for path in files:
        seen.update(f"{path.relative_to(WEB)}\0".encode() + path.read_bytes())
    return f"/at/{seen.hexdigest()[:16]}"


@cache
def import_map() -> str:
    return json.dumps({"imports": {f"{name}/": f"{at()}{name}/" for name in ("/static", "/rooms")}})


@cache
def import_map_hash() -> str:
    """The import map as the content security policy knows it again."""
    return f"'sha256-{base64.b64encode(hashlib.sha256(import_map().encode()).digest()).decode()}'"
