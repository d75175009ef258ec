"""A receiver: a stand-in for an engine beside the editor. It follows a world over its API, or takes a package, checks
what comes, keeps its copy in step, and shows it as a plain page.

It knows nothing of the editor but its API. A copy is a folder: `state.json` says of which revision it is, `layers/` has
each layer of each tract as a NumPy array, `rows.json` the rows. What is being taken in when the receiver is killed is
taken in again: the revision is written last, and what is fetched is always the newest.
"""

from __future__ import annotations

import hashlib
import html
import http.client
import io
import json
import os
import shutil
import time
import urllib.error
import urllib.request
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import cv2
import numpy as np
from numpy.typing import NDArray

PART = 1_024
"""Posts along a side of what is fetched at once."""
ROWS_AT_ONCE = 100
WAIT_S = (0.2, 5.0)
"""Between two tries, at first and at most."""
TRIES = 5
SILENCE_S = 30
"""Longer than that no server is silent: it says that it is there every 15 s."""
MOST_FILES, MOST_BYTES = 100_000, 1 << 36
"""Of a package."""
TRACTS = "tracts"
"""Rows with which tracts come and go."""


class Refused(Exception):
    """What came is not what it says it is."""


class Copy:
    """A copy of a world in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.times: list[float] = []
        (folder / "layers").mkdir(parents=True, exist_ok=True)
        self.state: dict[str, Any] = self._read("state.json", {"world": None, "revision": None, "tracts": {}})
        self.rows: dict[str, dict[str, Any]] = self._read("rows.json", {})

    def _read(self, name: str, else_: Any) -> Any:
        try:
            return json.loads((self.folder / name).read_text())
        except (OSError, ValueError):
            return else_

    def _write(self, name: str, body: str) -> None:
        part = self.folder / f"{name}.part"
        part.write_text(body)
        part.replace(self.folder / name)

    def keep(self, revision: int) -> None:
        """The copy is of this revision now."""
        self._write("rows.json", json.dumps(self.rows, sort_keys=True))
        self.state["revision"] = revision
        self._write("state.json", json.dumps(self.state, sort_keys=True))
        self._write("index.html", self.page())

    def forget(self) -> None:
        """The copy is of no revision for now."""
        self.state["revision"] = None
        self._write("state.json", json.dumps(self.state, sort_keys=True))

    def layer(self, tract: str, layer: str) -> Path:
        return self.folder / "layers" / f"{tract}.{layer.replace(':', '-')}.npy"

    def put(self, tract: str, layer: str, shape: tuple[int, int], row: int, col: int, values: NDArray[Any]) -> None:
        """A window of a layer, in its place; a layer that was not there before is nothing beside it."""
        path = self.layer(tract, layer)
        if not path.exists():
            part = path.with_suffix(".part")
            with part.open("wb") as file:
                np.save(file, np.zeros(shape, values.dtype))
            part.replace(path)
        whole = np.load(path, mmap_mode="r+")
        whole[row : row + values.shape[0], col : col + values.shape[1]] = values
        whole.flush()

    def page(self) -> str:
        """What is in the copy, what of it an engine would load, and how long it took to be in step."""
        lines = []
        for tract, layers in self.state["tracts"].items():
            sizes = {one: self.layer(tract, one).stat().st_size for one in layers if self.layer(tract, one).exists()}
            told = ", ".join(f"{html.escape(one)} {size / 1e6:.1f} MB" for one, size in sizes.items())
            lines.append(f"<tr><th>{html.escape(tract)}</th><td>{told}</td></tr>")
            self._picture(tract)
        counts = ", ".join(f"{len(some)} {html.escape(name)}" for name, some in sorted(self.rows.items()) if some)
        last = sorted(self.times[-100:])
        took = f"{last[len(last) // 2] * 1e3:.0f} ms, at most {last[-1] * 1e3:.0f} ms" if last else "nothing came yet"
        pictures = "".join(f'<img src="{quote(one)}.png" alt="{html.escape(one)}">' for one in self.state["tracts"])
        return (
            '<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="2">'
            f"<title>Receiver, r{self.state['revision']}</title><style>body{{font:15px sans-serif;margin:2em;"
            "max-width:60em}img{max-width:32em;border:1px solid #889}th{text-align:left;padding-right:1em}</style>"
            f"<h1>A copy of {html.escape(str(self.state['world']))} at r{self.state['revision']}</h1>"
            f"<p>From told to in step: {took}.</p><h2>What an engine would load</h2>"
            f"<table>{''.join(lines)}</table><p>{counts}.</p>{pictures}</html>"
        )

    def _picture(self, tract: str) -> None:
        """The ground as it is kept, seen from above with light from the north-west."""
        path = self.layer(tract, "heights")
        if not path.exists():
            return
        heights = np.load(path, mmap_mode="r")
        step = max(1, max(heights.shape) // 800)
        ground = np.asarray(heights[::step, ::step], np.float32)
        down, right = np.gradient(ground) if min(ground.shape) > 1 else (np.zeros_like(ground),) * 2
        shade = 128 + 90 * (-right - down) / np.sqrt(1 + right**2 + down**2) / np.sqrt(2)
        part = self.folder / f"{tract}.part.png"
        cv2.imwrite(str(part), np.clip(shade, 0, 255).astype(np.uint8))
        part.replace(self.folder / f"{tract}.png")


class Receiver:
    """Keeps a copy of a world in step with it.

    url : of the world, as a browser or a script says it; token : for a server that asks for one
    say : is told what is done, in words
    """

    def __init__(self, url: str, folder: Path, token: str | None, say: Callable[[str], None]) -> None:
        at = urlsplit(url)
        parts = [part for part in at.path.split("/") if part]
        if at.scheme not in ("http", "https") or "worlds" not in parts[:-1]:
            raise Refused(f"the address of a world ends in worlds/ and its id, not {url!r}")
        self._server, self._world = f"{at.scheme}://{at.netloc}", parts[parts.index("worlds") + 1]
        self._head = {"Authorization": f"Bearer {token}"} if token else {}
        self._say = say
        self.copy = Copy(folder)
        if self.copy.state["world"] not in (None, self._world):
            raise Refused(f"the folder holds a copy of {self.copy.state['world']}, not of {self._world}")
        self.copy.state["world"] = self._world

    def _open(self, path: str, **more: str) -> Any:
        return urllib.request.urlopen(
            urllib.request.Request(self._server + path, headers={**self._head, **more}), timeout=SILENCE_S
        )

    def _read(self, path: str) -> tuple[bytes, Any]:
        """An answer and its headers; asked for again where the line breaks."""
        for tries in range(TRIES):
            try:
                with self._open(path) as answer:
                    return answer.read(), answer.headers
            except urllib.error.HTTPError:
                raise
            except (OSError, http.client.HTTPException):
                if tries == TRIES - 1:
                    raise
                time.sleep(WAIT_S[0] * 2**tries / 4)
        raise AssertionError

    def _json(self, path: str) -> Any:
        return json.loads(self._read(path)[0])

    def _window(self, tract: str, layer: str, row0: int, col0: int, row1: int, col1: int) -> NDArray[Any]:
        """Raises Refused where the body is not what its checksum says."""
        query = f"row0={row0}&col0={col0}&row1={row1}&col1={col1}"
        body, head = self._read(f"/api/tracts/{tract}/layers/{quote(layer, safe=':')}.npy?{query}")
        if hashlib.sha256(body).hexdigest() != head["X-SHA-256"]:
            raise Refused(f"{layer} of {tract}: the checksum is not that of what came")
        values: NDArray[Any] = np.load(io.BytesIO(body), allow_pickle=False)
        if values.shape != (row1 - row0, col1 - col0):
            raise Refused(f"{layer} of {tract}: {values.shape} came for {(row1 - row0, col1 - col0)}")
        return values

    def _fetch(self, tract: str, layer: str, rows: int, cols: int, windows: list[list[int]] | None = None) -> None:
        for row0, col0, row1, col1 in windows or [[0, 0, rows, cols]]:
            for row in range(row0, min(row1, rows), PART):
                for col in range(col0, min(col1, cols), PART):
                    end = min(row + PART, row1, rows), min(col + PART, col1, cols)
                    self.copy.put(tract, layer, (rows, cols), row, col, self._window(tract, layer, row, col, *end))

    def take_all(self) -> int:
        """The whole world anew; the revision that the copy is of at least."""
        told = self._json(f"/api/worlds/{self._world}")
        revision = int(told["revision"])
        self.copy.state["tracts"] = {}
        # Whoever is killed from here on begins anew.
        self.copy.forget()
        for old in (self.copy.folder / "layers").glob("*.npy"):
            old.unlink()
        for tract in (one["id"] for one in told["tracts"]):
            self._take_tract(tract)
        found = self._json(f"/api/worlds/{self._world}/rows?schemas=true")
        _keep_to(found["schemas"], found["rows"])
        self.copy.rows = found["rows"]
        self.copy.keep(revision)
        self._say(f"all of r{revision}")
        return revision

    def _take_tracts(self) -> None:
        """Tracts that have come are taken whole, those that have gone are left."""
        there = {one["id"] for one in self._json(f"/api/worlds/{self._world}")["tracts"]}
        for tract in there - set(self.copy.state["tracts"]):
            self._take_tract(tract)
        for tract in set(self.copy.state["tracts"]) - there:
            for layer in self.copy.state["tracts"].pop(tract):
                self.copy.layer(tract, layer).unlink(missing_ok=True)

    def _take_tract(self, tract: str) -> None:
        told = self._json(f"/api/tracts/{tract}/layers")
        for layer in told["layers"]:
            self._fetch(tract, layer, told["rows"], told["cols"])
        # Known once all of it is there: whoever is cut off fetches it again.
        self.copy.state["tracts"][tract] = told["layers"]

    def take(self, change: dict[str, Any]) -> int:
        """What a revision changed."""
        began = time.monotonic()
        known = self.copy.state["tracts"]
        if change["all"]:
            return self.take_all()
        if TRACTS in change["rows"]:
            self._take_tracts()
        for tract, layers in change["tracts"].items():
            # What has gone since is told of later.
            if tract not in known:
                continue
            told = self._json(f"/api/tracts/{tract}/layers")
            for layer, windows in layers.items():
                new = layer not in known[tract]
                self._fetch(tract, layer, told["rows"], told["cols"], None if new else windows)
                if new:
                    known[tract] = sorted([*known[tract], layer])
        keys = [f"{name}/{key}" for name, some in change["rows"].items() for key in some]
        for at in range(0, len(keys), ROWS_AT_ONCE):
            query = "&".join(f"of={quote(one)}" for one in keys[at : at + ROWS_AT_ONCE])
            found = self._json(f"/api/worlds/{self._world}/rows?schemas=true&{query}")
            _keep_to(found["schemas"], found["rows"])
            for name, some in found["rows"].items():
                own = self.copy.rows.setdefault(name, {})
                for key, row in some.items():
                    own.pop(key, None) if row is None else own.update({key: row})
        self.copy.times.append(time.monotonic() - began)
        self.copy.keep(change["revision"])
        self._say(f"r{change['revision']} after {self.copy.times[-1] * 1e3:.0f} ms")
        return int(change["revision"])

    def follow(self, *, once: bool = False) -> None:
        """Keep in step until somebody stops it; with `once` until the copy is what the world is."""
        wait = WAIT_S[0]
        while True:
            try:
                if self.copy.state["revision"] is None:
                    self.take_all()
                if once and self._json(f"/api/worlds/{self._world}")["revision"] <= self.copy.state["revision"]:
                    return
                for change in self._changes():
                    self.take(change)
                    wait = WAIT_S[0]
                    if once and self._json(f"/api/worlds/{self._world}")["revision"] <= self.copy.state["revision"]:
                        return
            except urllib.error.HTTPError as error:
                if error.code == 422:
                    # It was of a world that has been put back since.
                    self.copy.state["revision"] = None
                elif error.code in (401, 403) or not self._is_there():
                    raise Refused(f"{error.code}: {error.read(500).decode(errors='replace')}") from None
            except (OSError, ValueError, http.client.HTTPException, Refused) as error:
                self._say(f"cut off ({error}): again in {wait:g} s")
            time.sleep(wait)
            wait = min(wait * 2, WAIT_S[1])

    def _is_there(self) -> bool:
        try:
            self._json(f"/api/worlds/{self._world}")
        except urllib.error.HTTPError:
            return False
        return True

    def _changes(self) -> Iterator[dict[str, Any]]:
        since = self.copy.state["revision"]
        with self._open(f"/api/worlds/{self._world}/changes?since={since}", Accept="text/event-stream") as lines:
            for line in lines:
                if line.startswith(b"data:"):
                    yield json.loads(line[5:])


def _keep_to(schemas: dict[str, Any], rows: dict[str, dict[str, Any]]) -> None:
    """Raises Refused for a row that does not keep to the schema of its collection."""
    from jsonschema_rs import validator_for  # heavy: imported where it is used

    for name, some in rows.items():
        check = validator_for(schemas[name])
        for key, row in some.items():
            if row is not None and not check.is_valid(row):
                raise Refused(f"{name}/{key} does not keep to its schema: {next(check.iter_errors(row)).message}")


def take_package(path: Path, folder: Path) -> dict[str, Any]:
    """Unpack a package into a folder, each file as its manifest says it is; the manifest. What was there before stays
    where anything is wrong. Raises Refused."""
    fresh = folder.with_name(f"{folder.name}.part")
    shutil.rmtree(fresh, ignore_errors=True)
    try:
        with zipfile.ZipFile(path) as package:
            manifest = _unpacked(package, fresh)
    except (zipfile.BadZipFile, OSError, ValueError, KeyError, TypeError, EOFError) as error:
        shutil.rmtree(fresh, ignore_errors=True)
        raise Refused(f"{path.name} is no package that can be read: {error}") from None
    except Refused:
        shutil.rmtree(fresh, ignore_errors=True)
        raise
    shutil.rmtree(folder, ignore_errors=True)
    os.replace(fresh, folder)
    return manifest


def _unpacked(package: zipfile.ZipFile, to: Path) -> dict[str, Any]:
    members = {one.filename: one for one in package.infolist()}
    if len(members) > MOST_FILES or sum(one.file_size for one in members.values()) > MOST_BYTES:
        raise Refused(f"it holds more than {MOST_FILES:,} files or {MOST_BYTES >> 30} GiB")
    if len({name.lower() for name in members}) < len(package.infolist()):
        raise Refused("two of its files have one name")
    with package.open("manifest.json") as file:
        manifest: dict[str, Any] = json.loads(file.read(1 << 28))
    told = {one["path"]: one for one in manifest["files"]}
    for name, member in members.items():
        if name == "manifest.json":
            continue
        if Path(name).is_absolute() or ".." in Path(name).parts or "\\" in name or member.is_dir():
            raise Refused(f"a file may not be called {name!r}")
        if name not in told:
            raise Refused(f"{name} is not in the manifest")
        out = to / name
        out.parent.mkdir(parents=True, exist_ok=True)
        found, size = hashlib.sha256(), 0
        with package.open(member) as source, out.open("wb") as file:
            while part := source.read(1 << 20):
                found.update(part)
                size += len(part)
                if size > member.file_size:
                    raise Refused(f"{name} is larger than it says")
                file.write(part)
        if found.hexdigest() != told[name]["sha256"]:
            raise Refused(f"{name}: the checksum is not that of the manifest")
    if missing := set(told) - set(members):
        raise Refused(f"{min(missing)} is in the manifest and not in the package")
    (to / "manifest.json").write_text(json.dumps(manifest, indent=1))
    return manifest
