"""Making worlds: beginnings, files in, copies, tracts, joins and boundaries."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from fernfield.core.checks.finding import Finding, Gap
from fernfield.core.checks.joins import open_joins as check_gaps
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.jobs import JobKind
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import JOINS
from fernfield.work.kernel.relations import missing_in
from fernfield.work.kernel.rooms import Room
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.worlds.bounding import put_boundary
from fernfield.work.worlds.copying import copy_world
from fernfield.work.worlds.joining import open_joins
from fernfield.work.worlds.rows import ABOUT, ICON, put_icon
from fernfield.work.worlds.tracts import crop, respace

COPY = JobKind("copy", "Copying the world", copy_world, card="worlds/job_world.html")
CROP = JobKind("crop", "Laying out the bounds", crop, card="layout/job_tract.html")
RESPACE = JobKind("respace", "Laying out the posts anew", respace, card="layout/job_tract.html")
BOUNDARY = JobKind("boundary", "Shaping the edge", put_boundary, card="layout/job_boundary.html")


def _gaps(world: OpenWorld) -> Iterable[Finding]:
    return check_gaps(Gap(*gap) for gap in open_joins(world))


def _unread(world: OpenWorld) -> Iterable[Finding]:
    for (collection, key), unread in world.unread.items():
        words = f"A row of {collection} ({key}) cannot be read by this version, and is left as it is stored."
        yield Finding(
            "unread row", words, f"It says: {unread.why}. Open the world with the version that wrote it.", False
        )


def _missing(world: OpenWorld) -> Iterable[Finding]:
    for collection, row, named in missing_in(world.house, world.rows):
        called = f"The {row.called or collection.one} {row.title}".rstrip()
        yield Finding("names what has gone", f"{called} names {named}, which is no longer there.",
                      "Let it name another, or nothing.", False)  # fmt: skip


def _manifest(world: OpenWorld) -> dict[str, Any]:
    about = world.only(ABOUT)
    return {
        "world": {"id": world.id, "name": about.name, "description": about.description},
        "joins": [join.model_dump() for _, join in world.each(JOINS)],
    }


ROOM = Room(
    "worlds",
    collections=(ABOUT, ICON),
    checks=(
        Check("join", _gaps, Reads((), (HEIGHT,))),
        Check("unread row", _unread, Reads(layers=())),
        Check("names what has gone", _missing, Reads(layers=())),
    ),
    manifest=_manifest,
    whole=put_icon,
)
