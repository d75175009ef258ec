"""Light: where sun and moon stand, and the stage's panel."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from fastapi import Query
from typing_extensions import TypedDict

from fernfield.core.light.moon import moon_at
from fernfield.core.light.sun import midnight, seconds_of, sun_at, sun_day
from fernfield.web.kernel.panels import Asked, Panel, Shortcut
from fernfield.web.kernel.routing import Router
from fernfield.work.light.rows import LIGHT, Latitude, Light, Longitude, Mood, Time

router = Router(prefix="/api", tags=["light"])

HOURS = 24


class MoonTold(TypedDict):
    """Where the moon stands [°], and the share of it that is lit."""

    bearing_deg: float
    height_deg: float
    lit_share: float


class HourTold(TypedDict):
    """Where the sun stands at an hour of the day [h, °]."""

    hour: float
    bearing_deg: float
    height_deg: float


class SunTold(TypedDict):
    """Where the sun stands [°], bearings from true north, and its day: when it rises, crosses the meridian and sets,
    and when civil, nautical and astronomical twilight begin and end; null where that does not happen on that day."""

    bearing_deg: float
    height_deg: float
    sunrise: str | None
    noon: str
    sunset: str | None
    dawn: str | None
    dusk: str | None
    twilights: dict[str, list[str | None]]
    moon: MoonTold
    hours: list[HourTold]


def _iso(time: datetime | None) -> str | None:
    return None if time is None else time.isoformat(timespec="seconds")


@router.get("/sun")
def sun(
    latitude_deg: Annotated[Latitude, Query()],
    longitude_deg: Annotated[Longitude, Query()],
    time: Annotated[Time, Query(description="ISO 8601 with an offset, whose day it is")],
) -> SunTold:
    """Sun and moon at a place and a time, and the day of the sun there."""
    unix = seconds_of(time)
    at, day = sun_at(unix, latitude_deg, longitude_deg), sun_day(time, latitude_deg, longitude_deg)
    moon = moon_at(unix, latitude_deg, longitude_deg)
    first = seconds_of(midnight(time))
    course = sun_at([first + 3600 * hour for hour in range(HOURS + 1)], latitude_deg, longitude_deg)
    dawn, dusk = day.twilights["civil"]
    return {
        "bearing_deg": float(at.bearing), "height_deg": float(at.height),
        "sunrise": _iso(day.sunrise), "noon": day.noon.isoformat(timespec="seconds"), "sunset": _iso(day.sunset),
        "dawn": _iso(dawn), "dusk": _iso(dusk),
        "twilights": {name: [_iso(one) for one in both] for name, both in day.twilights.items()},
        "moon": {
            "bearing_deg": float(moon.at.bearing), "height_deg": float(moon.at.height),
            "lit_share": float(moon.lit_share),
        },
        "hours": [
            {"hour": float(hour), "bearing_deg": float(bearing), "height_deg": float(height)}
            for hour, (bearing, height) in enumerate(zip(course.bearing, course.height, strict=True))
        ],
    }  # fmt: skip


def _context(asked: Asked) -> dict[str, Any]:
    return {"Light": Light, "Mood": Mood, "light": asked.world.only(LIGHT)}


PANEL = Panel(
    "light",
    _context,
    script=True,
    shortcuts=(
        Shortcut(("r",), "a raking light for this view, and back", "raking", "stage"),
        Shortcut(("Delete",), "delete what is chosen", "remove", "stage"),
    ),
)
