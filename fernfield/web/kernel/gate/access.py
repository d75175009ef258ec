"""Who may come in: an access phrase, signed sessions and tokens, and a second phrase to look only.

Without a phrase the server listens to this machine alone, and nobody signs in.
"""

from __future__ import annotations

import hashlib
import json
import os
import secrets
import threading
import time
from collections import OrderedDict
from dataclasses import dataclass
from ipaddress import ip_address
from pathlib import Path
from typing import Annotated, Literal

from itsdangerous import BadSignature, URLSafeTimedSerializer
from pydantic import BaseModel, Field, ValidationError
from starlette.datastructures import Headers
from starlette.requests import cookie_parser

from fernfield.core.errors import Busy, InvalidInput

COOKIE = "fern-session"
SESSION_S = 30 * 86_400
TRIES, TRIES_S = 10, 60.0
"""So often an address may try a phrase in so many seconds."""

MOST_ADDRESSES = 4_096
SHORTEST = 8
SCRYPT = {"n": 1 << 14, "r": 8, "p": 1, "maxmem": 64 << 20}
"""Cost of checking a phrase: OWASP Password Storage Cheat Sheet has N = 2^14, r = 8, p = 5 among its least; tries are
few here besides. (From memory.)"""

OPEN = ("/sign-in", "/static/", "/at/", "/favicon.ico", "/healthz")
"""What is answered to anybody."""


class Guest(BaseModel):
    """Somebody who came in: their name, and whether they may change things."""

    name: Annotated[str, Field(max_length=40)] = ""
    may: Literal["change", "look"] = "change"


@dataclass(frozen=True)
class Kept:
    """What of the phrases is kept in the data folder: salted scrypt, never the words."""

    salt: str
    change: str = ""
    look: str = ""


def kept_at(data: Path) -> Kept | None:
    """The phrases that were made for a data folder."""
    path = data / "access.json"
    return Kept(**json.loads(path.read_text())) if path.exists() else None


def make_phrase(data: Path, may: Literal["change", "look"]) -> str:
    """Make a phrase for a data folder, in the place of an earlier one; only a digest of it is kept."""
    phrase = "-".join(secrets.token_hex(2) for _ in range(4))
    old = kept_at(data) or Kept(secrets.token_hex(16))
    made = Kept(**{**vars(old), may: _digest(phrase, old.salt)})
    _write_secret(data / "access.json", json.dumps(vars(made)).encode())
    return phrase


def _write_secret(path: Path, body: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    new = path.with_suffix(".new")
    with os.fdopen(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(body)
        file.flush()
        os.fsync(file.fileno())
    new.replace(path)


def _digest(phrase: str, salt: str) -> str:
    return hashlib.scrypt(phrase.encode(), salt=bytes.fromhex(salt), **SCRYPT).hex()


def key_of(data: Path) -> bytes:
    """The key that signs sessions and tokens; made at first. Taking the file away ends all of them."""
    path = data / "key"
    if not path.exists():
        _write_secret(path, secrets.token_bytes(32))
    return path.read_bytes()


class Access:
    """Checks phrases, sessions and tokens of one server.

    phrase, look : the phrases that are set; what was made for the data folder counts besides
    """

    def __init__(self, data: Path, phrase: str = "", look: str = "") -> None:
        kept = kept_at(data) or Kept(hashlib.sha256(key_of(data)).hexdigest() if phrase else "")
        self._salt = kept.salt
        for words in (phrase, look):
            if words and len(words) < SHORTEST:
                raise InvalidInput(f"an access phrase has {SHORTEST} characters at least", "phrase")
        if phrase and phrase == look:
            raise InvalidInput("the phrase to look only must be another one", "look_phrase")
        change = {kept.change, _digest(phrase, self._salt) if phrase else ""} - {""}
        looking = {kept.look, _digest(look, self._salt) if look else ""} - {""}
        self._digests = {**dict.fromkeys(looking, "look"), **dict.fromkeys(change, "change")}
        self.needed = bool(change)
        if self._digests and not self.needed:
            raise InvalidInput("a phrase to look only needs one to work with beside it", "phrase")
        # With other phrases nobody's session goes on.
        every = hashlib.sha256("".join(sorted(self._digests)).encode()).hexdigest()
        key = key_of(data) if self.needed else secrets.token_bytes(32)
        self._sessions = URLSafeTimedSerializer(key, salt=f"session {every}")
        self._tokens = URLSafeTimedSerializer(key, salt="token")
        self._tries: OrderedDict[str, list[float]] = OrderedDict()
        self._lock = threading.Lock()

    def sign_in(self, address: str, phrase: str, name: str) -> str:
        """A session for who says a phrase. Raises InvalidInput for a wrong one, Busy after too many tries."""
        now = time.monotonic()
        with self._lock:
            tries = [at for at in self._tries.pop(address, []) if now - at < TRIES_S]
            if len(tries) >= TRIES:
                self._tries[address] = tries
                wait = int(TRIES_S - (now - tries[0])) + 1
                raise Busy(f"too many tries from this address: try again in {wait} s", wait)
            self._tries[address] = [*tries, now]
            while len(self._tries) > MOST_ADDRESSES:
                self._tries.popitem(last=False)
        digest = _digest(phrase[:1000], self._salt)
        may = next((may for one, may in self._digests.items() if secrets.compare_digest(one, digest)), None)
        if may is None:
            raise InvalidInput("this is not the access phrase", "phrase")
        with self._lock:
            self._tries.pop(address, None)
        return str(self._sessions.dumps({"name": name, "may": may}))

    def token(self, name: str, may: str) -> str:
        """A token for a script."""
        return str(self._tokens.dumps({"name": name, "may": may}))

    def guest(self, headers: Headers) -> Guest | None:
        """Who asks, by session or token; None for nobody. Everybody where no phrase is set."""
        if not self.needed:
            return Guest()
        scheme, _, token = headers.get("authorization", "").partition(" ")
        try:
            if scheme.lower() == "bearer":
                return Guest.model_validate(self._tokens.loads(token.strip()))
            cookie = cookie_parser(headers.get("cookie", "")).get(COOKIE, "")
            return Guest.model_validate(self._sessions.loads(cookie, max_age=SESSION_S))
        except (BadSignature, ValidationError):
            return None


def is_here(host: str) -> bool:
    """Whether an address to listen on is this machine's own."""
    if host == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def token_for(data: Path, name: str, may: str) -> str:
    """A token for a script that works with the servers of a data folder."""
    return str(URLSafeTimedSerializer(key_of(data), salt="token").dumps({"name": name, "may": may}))
