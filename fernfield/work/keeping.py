"""Keeping a data folder: backups while people work, bringing one back, and finding and mending what is wrong."""

from __future__ import annotations

import fcntl
import hashlib
import json
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import delete, select, update

from fernfield import __version__
from fernfield.core.errors import Conflict, FernError, FormatError, InvalidInput, NoRoom
from fernfield.formats.tileblob import decode_tile
from fernfield.store.keeping import KeepingStore, copy_database, is_sound
from fernfield.store.rows import TileAt
from fernfield.store.schema import overviews, tiles, tracts
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.overviews import Overviews, Spot
from fernfield.work.kernel.posts.tracts import PLACES, Tract
from fernfield.work.kernel.windows import Told, quiet
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio

DATABASE = "fernfield.db"
MANIFEST = "backup.json"
FORMAT = "fern-field-backup/1"
BESIDE = ("packages/*.zip", "access.json", "key")
"""Files of a data folder that belong to it besides the database."""

SPOTS = 96


# Backup


def backup(data: Path, to: Path, say: Told = quiet) -> dict[str, Any]:
    """A whole copy of a data folder in a new folder, as of one moment, while people work on it.

    Raises InvalidInput when there is no data, Conflict when there is something at `to` already.
    """
    database = data / DATABASE
    if not database.exists():
        raise InvalidInput(f"there is no Fern Field data in {data}", "data")
    if to.exists():
        raise Conflict(f"there is something at {to} already: a backup goes into a new folder")
    part = to.with_name(to.name + ".part")
    shutil.rmtree(part, ignore_errors=True)
    needs, free = database.stat().st_size, _free(to.parent)
    if needs > free:
        raise NoRoom(f"the backup takes {needs >> 20} MiB; there are {free >> 20} MiB at {to.parent}")
    part.mkdir(parents=True)
    try:
        copy_database(database, part / DATABASE, lambda done: say(0.8 * done, "Copying the database"))
        for pattern in BESIDE:
            for file in sorted(data.glob(pattern)):
                say(0.8, f"Copying {file.name}")
                (part / file.relative_to(data)).parent.mkdir(exist_ok=True)
                # A package that is replaced meanwhile is an older or a newer one, never a half.
                shutil.copy2(file, part / file.relative_to(data))
        say(0.85, "Checking the copy")
        _need_sound(part / DATABASE)
        files = {str(f.relative_to(part)): _digest(f) for f in sorted(part.rglob("*")) if f.is_file()}
        about = {"format": FORMAT, "made_by": f"Fern Field {__version__}", "made_at": _now(), "files": files}
        (part / MANIFEST).write_text(json.dumps(about, indent=1))
        part.replace(to)
    except BaseException:
        shutil.rmtree(part, ignore_errors=True)
        raise
    say(1.0, "Done")
    return about


def restore(backup_at: Path, data: Path, say: Told = quiet) -> dict[str, Any]:
    """Bring a backup back as a new data folder. Raises FormatError for one that is not whole, Conflict when there is
    data already."""
    try:
        about = json.loads((backup_at / MANIFEST).read_text())
        files: dict[str, str] = dict(about["files"])
        if about["format"] != FORMAT:
            raise FormatError(f"the backup must be {FORMAT}, not {about['format']!r}", "backup")
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise FormatError(f"{backup_at} is no backup of Fern Field: {error}", "backup") from error
    for number, (name, digest) in enumerate(files.items()):
        say(0.4 * number / len(files), f"Checking {name}")
        file = backup_at / name
        if not file.resolve().is_relative_to(backup_at.resolve()):
            raise FormatError(f"the backup names a file outside of it: {name[:80]!r}", "backup")
        if not file.is_file() or _digest(file) != digest:
            raise FormatError(f"{name} of the backup is missing, or is not as it was written", "backup")
    if DATABASE not in files:
        raise FormatError("the backup holds no database", "backup")
    if data.exists() and any(data.iterdir()):
        raise Conflict(f"there is something in {data} already: move it away first, nothing is ever replaced")
    part = data.with_name(data.name + ".part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    try:
        for number, name in enumerate(files):
            say(0.4 + 0.4 * number / len(files), f"Bringing back {name}")
            (part / name).parent.mkdir(exist_ok=True)
            shutil.copy2(backup_at / name, part / name)
        say(0.85, "Checking the database")
        _need_sound(part / DATABASE)
        if data.exists():
            data.rmdir()
        part.replace(data)
    except BaseException:
        shutil.rmtree(part, ignore_errors=True)
        raise
    say(1.0, "Done")
    return dict(about)


def _need_sound(database: Path) -> None:
    wrong = is_sound(database)
    if wrong:
        raise FormatError(f"the database is damaged: {wrong[0][:200]}; fernfield doctor says more", "database")


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _free(folder: Path) -> int:
    while not folder.exists():
        folder = folder.parent
    return shutil.disk_usage(folder).free


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


# The doctor


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that is wrong with a data folder.

    words : what, and where
    mend : what would be done about it; empty where nothing can be
    mended : whether it was done
    """

    words: str
    mend: str = ""
    mended: bool = False


def examine(data: Path, *, mend: bool, say: Told = quiet) -> tuple[list[Trouble], list[tuple[str, str, int, int]]]:
    """Check a data folder that nobody has open, and mend what can be where that is asked for; what is wrong, and the
    sizes by world and layer. Raises Conflict while a server has it open."""
    database = data / DATABASE
    if not database.exists():
        raise InvalidInput(f"there is no Fern Field data in {data}", "data")
    with _alone(data):
        say(0.0, "Checking the database")
        wrong = is_sound(database)
        if wrong:
            bring = "Bring a backup back: fernfield restore."
            return [Trouble(f"The database is damaged: {one}.", bring) for one in wrong], []
        # What the next start clears away by itself is told too.
        left = [path.name for path in (data / "incoming").glob("*")] if (data / "incoming").exists() else []
        halves = [path.name for path in (data / "packages").glob("*.part")]
    found = [
        Trouble(f"{name} was left by an upload or a package that did not end.", "It is cleared away.", True)
        for name in (*left, *halves)
    ]
    studio = Studio(data)
    try:
        rows = [*studio.store.list_worlds(), *studio.store.list_worlds(binned=True)]
        for number, row in enumerate(rows):
            at, share = 0.1 + 0.8 * number / len(rows), 0.8 / len(rows)

            def told(done: float, words: str, at: float = at, share: float = share) -> None:
                say(at + share * done, words)

            try:
                world = OpenWorld(studio.house, studio.store, row.id)
            except FernError as error:
                found.append(Trouble(f"World {row.id} cannot be opened: {error}."))
                continue
            found += _of_world(world, mend, told)
        found += _of_files(studio, data, mend)
        keeping = KeepingStore(studio.store.engine)
        if not keeping.gives_back():
            older = "The database was made by an older version: its file does not shrink when worlds are deleted."
            found.append(Trouble(older, "The file is written anew.", mend))
            if mend:
                say(0.95, "Writing the database anew")
                keeping.pack()
        elif mend:
            keeping.give_back(lambda done: say(0.95 + 0.05 * done, "Giving space back"))
        return found, keeping.sizes()
    finally:
        studio.close()


@contextmanager
def _alone(data: Path) -> Iterator[None]:
    with (data / "in-use").open("w") as guard:
        try:
            fcntl.flock(guard, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise Conflict(f"the data folder {data} is in use by a Fern Field: stop it first") from None
        yield


def _of_world(world: OpenWorld, mend: bool, say: Told) -> Iterator[Trouble]:
    for (collection, key), unread in world.unread.items():
        yield Trouble(f"World {world.id}: {collection}/{key} cannot be read ({unread.why}); it is kept as it is.")
    known = set(world.rows[PLACES.name])
    every = list(world._every_tract.items())
    for number, (tract_id, tract) in enumerate(every):

        def told(done: float, number: int = number) -> None:
            say((number + done) / len(every), f"Checking world {world.id}")

        yield from _tiles_of(world, tract, mend, told)
        if tract_id in known and tract.overviews.ready:
            yield from _levels_of(world, tract, mend, told)


def _tiles_of(world: OpenWorld, tract: Tract, mend: bool, say: Callable[[float], None]) -> Iterator[Trouble]:
    """Every tile of a tract: whether it can be unpacked, has its shape, and lies within its range."""
    places = sorted(tract.cache.ranges)
    for number, place in enumerate(places):
        if number % 64 == 0:
            say(0.5 * number / max(len(places), 1))
        layer, row, col = place
        where = f"World {world.id}: tile {row}, {col} of {layer} in tract {tract.row.id}"
        own = [tiles.c[name] == value for name, value in asdict(TileAt(tract.row.id, *place)).items()]
        with world.store.reading() as c:
            blob, low, high = c.execute(select(tiles.c.blob, tiles.c.lowest, tiles.c.highest).where(*own)).one()
        shape = tract.grid.tile_window(row, col).shape
        try:
            values = decode_tile(blob)
            if values.shape != shape or values.dtype != tract.cache.layers(layer).dtype:
                raise FormatError(f"it is {values.shape} of {values.dtype}, not {shape}")
            if not np.isfinite(values.astype(np.float64)).all():
                raise FormatError("it holds what is no number")
        except FernError as error:
            yield Trouble(f"{where} is damaged ({error}).", "Bring a backup back: fernfield restore.")
            continue
        lowest, highest = float(values.min()), float(values.max())
        if not (low <= lowest and highest <= high):
            yield Trouble(f"{where} reaches beyond the range that is kept of it.", "The range is set.", mend)
            if mend:
                with world.store.engine.begin() as c:
                    c.execute(update(tiles).where(*own).values(lowest=lowest, highest=highest))


def _levels_of(world: OpenWorld, tract: Tract, mend: bool, say: Callable[[float], None]) -> Iterator[Trouble]:
    """Whether the coarser levels of a tract are those of its posts."""
    made: dict[Spot, bytes] = {}

    def again(layer: str, rule: str, level: int, window: Any) -> list[tuple[int, int, bytes]]:
        return [
            (row, col, blob)
            for (name, by, at, row, col), blob in made.items()
            if (name, by, at) == (layer, rule, level)
            and window.row0 <= row < window.row1 and window.col0 <= col < window.col1
        ]  # fmt: skip

    anew = Overviews(tract.row.id, tract.cache, again, 0)
    try:
        anew.begin()
        most = max(len(anew.pending), 1)
        while anew.pending:
            say(1 - 0.5 * len(anew.pending) / most)
            fresh = anew.some(SPOTS, tract.cache.read)
            made.update((_spot_of(at), blob) for at, blob in anew.written(fresh))
            anew.take(fresh)
            anew.pending -= set(fresh)
    except (FernError, ValueError):
        # Its tiles are damaged, and told.
        return
    query = select(
        overviews.c.layer, overviews.c.rule, overviews.c.level, overviews.c.tile_row, overviews.c.tile_col,
        overviews.c.blob,
    ).where(overviews.c.tract_id == tract.row.id)  # fmt: skip
    with world.store.reading() as c:
        kept = {(r[0], r[1], r[2], r[3], r[4]): bytes(r[5]) for r in c.execute(query)}
    blank = {layer: tract.row.base_m if layer == HEIGHT else 0.0 for layer, *_ in {*made, *kept}}
    wrong = [spot for spot in {*made, *kept} if not _same(made.get(spot), kept.get(spot), blank[spot[0]])]
    if not wrong:
        return
    words = f"World {world.id}: {len(wrong)} tiles of the coarser levels of tract {tract.row.id} do not fit its posts."
    yield Trouble(words, "They are made anew when the world is opened.", mend)
    if mend:
        with world.store.engine.begin() as c:
            c.execute(delete(overviews).where(overviews.c.tract_id == tract.row.id))
            c.execute(update(tracts).where(tracts.c.id == tract.row.id).values(overviews=0))


def _spot_of(at: Any) -> Spot:
    return at.layer, at.rule, at.level, at.tile_row, at.tile_col


def _same(one: bytes | None, two: bytes | None, blank: float) -> bool:
    """Whether two tiles hold the same, however they were packed; none is the same as one that nobody ever wrote on."""
    if one == two:
        return True
    try:
        first, second = (None if blob is None else decode_tile(blob) for blob in (one, two))
    except FernError:
        return False
    if first is None or second is None:
        there = second if first is None else first
        return there is not None and bool((there == np.asarray(blank, there.dtype)).all())
    return first.tobytes() == second.tobytes()


def _of_files(studio: Studio, data: Path, mend: bool) -> Iterator[Trouble]:
    """Packages without a world, and worlds without their package."""
    rows = [*studio.store.list_worlds(), *studio.store.list_worlds(binned=True)]
    named = {found[2] for row in rows if (found := studio.store.package(row.id)) is not None}
    there = {path.name for path in (data / "packages").iterdir()}
    for name in sorted(named - there):
        yield Trouble(f"The package {name} is missing: hand its world over again.")
    for name in sorted(there - named):
        yield Trouble(f"The package {name} belongs to no world.", "It is deleted.", mend)
        if mend:
            (data / "packages" / name).unlink()
