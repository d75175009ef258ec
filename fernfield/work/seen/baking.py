"""Baked light: what sun, sky, lamps and the ground nearby give each post in a mood, worked out once and kept beside the
world, block by block. A block knows by a digest what it was made of, so that only what has changed is made anew.

A bake lies in `bakes/<world>/<mood>/<tract>/`, a file for each block, named by its rows and columns and its digest,
and put in place whole: one that was cut off leaves nothing, and the next bake makes what is missing.
"""

from __future__ import annotations

import hashlib
import os
import secrets
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from typing_extensions import TypedDict

from fernfield.core.errors import NotFound
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light.shadow import casters, reach_posts
from fernfield.core.light.sky import LUMA
from fernfield.core.light.sky_share import reach_posts as sky_posts
from fernfield.work.growth.rows import KINDS, mixes_of
from fernfield.work.growth.sowing import growth_layer
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.relations import not_there
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lamplight, lamps_near, share_posts
from fernfield.work.light.moment import Moment, moment_of
from fernfield.work.light.rows import LIGHT, MOODS
from fernfield.work.seen.plan import sunlit_pixels
from fernfield.work.seen.show import Show

BLOCK = 256
VERSION = "1"
ALBEDO = 0.25
"""How much of its light ground throws back; common practice for land with growth."""
NEARBY_M = 12.0
"""Ground so far around gives a place its light back. [m]"""


@dataclass(frozen=True, slots=True)
class Baked:
    """Light on the posts of a window.

    shadow : how much of the sun (or moon) comes past hills, pieces and growth, 0 to 255
    sky_share : how much of the sky is seen, 0 to 255
    lamps : what lamps give, shape (3, rows, cols) [lx]
    given_back : what the ground nearby gives [lx]
    """

    shadow: ByteArray
    sky_share: ByteArray
    lamps: FloatArray
    given_back: FloatArray


class BakeTold(TypedDict):
    """A bake of a tract in a mood: of how many blocks it is, and the windows of posts where it is missing or stale."""

    mood: str
    tract: str
    blocks: int
    stale: list[list[int]]


def blocks_of(land: Land) -> Iterator[Window]:
    """The blocks of a land, from the north-west on."""
    for row in range(0, land.grid.rows, BLOCK):
        for col in range(0, land.grid.cols, BLOCK):
            yield land.clip(Window(row, col, row + BLOCK, col + BLOCK))


def bake_block(world: OpenWorld, land: Land, block: Window, mood: str) -> Baked:
    """The light of a block. The world's lock is held while it is read."""
    show = Show(mood=mood)
    moment = show.moment(world)
    around = max(1, round(NEARBY_M / land.grid.spacing))
    wide = land.clip(block.pad(2 * around))
    with world.lock:
        falls = sunlit_pixels(world, land, wide, 1, show)
        share = share_posts(world, land, wide, 1)
        lamps = lamplight(world, land, wide, 1, moment)
    shadow = falls[..., 1] if moment.thrown else np.zeros(wide.shape, np.uint8)
    lit = np.zeros(wide.shape, np.float32) if lamps is None else np.tensordot(LUMA.astype(np.float32), lamps, axes=1)
    if moment.sky is not None:
        lit += float(LUMA @ (moment.sky.sun + moment.sky.moon)) * (shadow.astype(np.float32) / 255)
        lit += float(LUMA @ moment.sky.sky) * share
    near = cv2.blur(lit, (2 * around + 1, 2 * around + 1), borderType=cv2.BORDER_REPLICATE)
    given = np.asarray((1 - share) * ALBEDO * near, np.float32)
    row, col = block.row0 - wide.row0, block.col0 - wide.col0
    part = slice(row, row + block.rows), slice(col, col + block.cols)
    of_lamps = np.zeros((3, *wide.shape), np.float32) if lamps is None else lamps
    return Baked(
        np.ascontiguousarray(shadow[part]), np.rint(share[part] * 255).astype(np.uint8),
        np.ascontiguousarray(of_lamps[:, part[0], part[1]]), np.ascontiguousarray(given[part]),
    )  # fmt: skip


def digest_of(world: OpenWorld, land: Land, block: Window, mood: str, moment: Moment) -> str:
    """What names all that the light of a block depends on: the ground that it sees and that throws shadows there, what
    stands and grows on it, lamps, and the mood."""
    found = hashlib.blake2b(digest_size=12)
    row = world.get(MOODS, mood)
    found.update(f"{VERSION} {moment.sun} {moment.moon} {row!r} {land.grid.spacing} {block.as_list()}".encode())
    around = sky_posts(land.grid.spacing) + 2 * round(NEARBY_M / land.grid.spacing) + 1
    with world.lock:
        wide = block.pad(around)
        if moment.thrown:
            low, _ = land.height_range(block)
            _, high = land.all_heights()
            wide = wide.join(
                casters(block, moment.day.bearing, reach_posts(high - low, land.grid.spacing, moment.day.height))
            )
        wide = land.clip(wide)
        found.update(land.read(HEIGHT, wide).tobytes())
        near = land.clip(block.pad(around))
        for key, mix in mixes_of(world):
            if not land.blank(growth_layer(key), near):
                found.update(f"{key} {mix!r}".encode())
                found.update(land.read(growth_layer(key), near).tobytes())
        if any(not land.blank(growth_layer(key), near) for key, _ in mixes_of(world)):
            found.update(repr(world.each(KINDS)).encode())
        lit = land.clip(block.pad(2 * round(NEARBY_M / land.grid.spacing)))
        for key, lamp, x, y in lamps_near(world, land, lit):
            found.update(f"{key} {lamp!r} {x} {y}".encode())
        for body in world.house.given.bodies(world, land, wide):
            found.update(repr(body).encode())
        found.update(repr(world.only(LIGHT).time).encode())
    return found.hexdigest()


def _name(block: Window, digest: str) -> str:
    return f"{block.row0}-{block.col0}-{digest}.npz"


def folder_of(data: Path, world_id: str, mood: str, tract_id: str) -> Path:
    return data / "bakes" / world_id / mood / tract_id


def bakes(world: OpenWorld, data: Path) -> list[BakeTold]:
    """What is baked of a world, and where it is stale."""
    found: list[BakeTold] = []
    top = data / "bakes" / world.id
    for folder in sorted(top.iterdir()) if top.is_dir() else []:
        if world.get(MOODS, folder.name) is None:
            continue
        moment = moment_of(world, folder.name)
        for tract_id in world.tracts:
            have = {path.name for path in folder_of(data, world.id, folder.name, tract_id).glob("*.npz")}
            if not have:
                continue
            land = world.land_from(tract_id)
            own = [(b, digest_of(world, land, b, folder.name, moment)) for b in blocks_of(land)]
            stale = [block.as_list() for block, digest in own if _name(block, digest) not in have]
            found.append({"mood": folder.name, "tract": tract_id, "blocks": len(own), "stale": stale})
    return found


def read_bake(world: OpenWorld, data: Path, mood: str, tract_id: str) -> Baked:
    """All of a baked tract as it was made, whatever has changed since. Raises NotFound."""
    land = world.land_from(tract_id)
    rows, cols = land.grid.rows, land.grid.cols
    out = Baked(
        np.zeros((rows, cols), np.uint8), np.zeros((rows, cols), np.uint8), np.zeros((3, rows, cols), np.float32),
        np.zeros((rows, cols), np.float32),
    )  # fmt: skip
    files = {tuple(path.name.split("-")[:2]): path for path in folder_of(data, world.id, mood, tract_id).glob("*.npz")}
    for block in blocks_of(land):
        path = files.get((str(block.row0), str(block.col0)))
        if path is None:
            raise NotFound(
                f"{world.any_tract(tract_id).row.id} is not baked in the mood {mood!r}: POST …/bake makes it"
            )
        part = slice(block.row0, block.row1), slice(block.col0, block.col1)
        with np.load(path) as kept:
            out.shadow[part], out.sky_share[part] = kept["shadow"], kept["sky_share"]
            out.lamps[:, part[0], part[1]], out.given_back[part] = kept["lamps"], kept["given_back"]
    return out


def check_moods(world: OpenWorld, moods: tuple[str, ...]) -> tuple[str, ...]:
    """The moods that are to be baked: those that are named, or all. Raises NotFound."""
    known = [key for key, _ in world.each(MOODS)]
    for mood in moods:
        if mood not in known:
            raise not_there(MOODS, mood, known)
    if not known:
        raise NotFound("this world has no mood to bake: make one on the Light stage")
    return moods or tuple(known)


def bake(job: Job, world: OpenWorld, moods: tuple[str, ...], data: Path) -> dict[str, int]:
    """Bake what is missing or stale of some moods; the result says how many blocks were made, and of how many."""
    work = [(mood, tract_id) for mood in moods for tract_id in world.tracts]
    made = count = 0
    for number, (mood, tract_id) in enumerate(work):
        land, folder = world.land_from(tract_id), folder_of(data, world.id, mood, tract_id)
        folder.mkdir(parents=True, exist_ok=True)
        moment = moment_of(world, mood)
        every = list(blocks_of(land))
        own = world.get(MOODS, mood)
        name = mood if own is None else own.name
        for at, block in enumerate(every):
            job.step((number + at / len(every)) / len(work), f"Baking {name}")
            digest = digest_of(world, land, block, mood, moment)
            count += 1
            if (folder / _name(block, digest)).exists():
                continue
            _keep(folder, block, digest, bake_block(world, land, block, mood))
            made += 1
    return {"made": made, "blocks": count}


def _keep(folder: Path, block: Window, digest: str, baked: Baked) -> None:
    """Put a block in its place; those that it replaces go after it."""
    part = folder / f"{secrets.token_hex(4)}.part"
    try:
        with part.open("wb") as file:
            np.savez_compressed(
                file, shadow=baked.shadow, sky_share=baked.sky_share, lamps=baked.lamps.astype(np.float16),
                given_back=baked.given_back.astype(np.float16),
            )  # fmt: skip
            file.flush()
            os.fsync(file.fileno())
        new = folder / _name(block, digest)
        part.replace(new)
    finally:
        part.unlink(missing_ok=True)
    for old in folder.glob(f"{block.row0}-{block.col0}-*.npz"):
        if old != new:
            old.unlink(missing_ok=True)


def forget_bakes(data: Path, world_id: str) -> None:
    """The bakes of a world that is gone for good."""
    shutil.rmtree(data / "bakes" / world_id, ignore_errors=True)


BAKE = JobKind("bake", "Baking light", bake, card="job_plain.html")
