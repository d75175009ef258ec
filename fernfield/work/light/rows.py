"""Light: the sun, moods, lamps and mists."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict, Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.light.lamps import KELVIN
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import (
    Bearing,
    Change,
    Collection,
    Colour,
    East,
    Key,
    Look,
    Name,
    North,
    Plan,
    Row,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say

YEARS = (1900, 2150)
"""For which the earth's clock is known well enough, and a calendar has days before and after."""


def _in_years(time: datetime) -> datetime:
    if not YEARS[0] <= time.year <= YEARS[1]:
        raise InvalidInput(f"a time must lie in the years {YEARS[0]} to {YEARS[1]}, not {time.isoformat()}", "time")
    return time


Time = Annotated[AwareDatetime, AfterValidator(_in_years)]
SunHeight = Annotated[float, Field(ge=-90, le=90)]
Hour = Annotated[float, Field(ge=0, lt=24)]
Latitude = Annotated[float, Field(ge=-90, le=90)]
Longitude = Annotated[float, Field(ge=-180, le=180)]
WATER = "#76a6bc"
"""The colour of shallow water on the plan: a mood that says so leaves it as it is."""
FROM = {"hand": "where it is set", "time": "by date and place", "mood": "as the mood has it"}
RELIEF = {"sun": "the sun alone", "sides": "several sides", "sky": "the sky alone", "mixed": "sun and sky"}


class Sun(BaseModel):
    """Where the sun stands: bearing clockwise from the map's north, height above the horizon. [°]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    sun_bearing_deg: Bearing
    sun_height_deg: SunHeight


class Light(Row):
    """Collection "light", key "sun". Bearing clockwise from north, height above the horizon. [°]

    sun_from : whether the sun stands where it is set, where a date and a place on earth put it, or where the world's
        mood has it; what was said last, where it is not said
    north_deg : the bearing on the map at which true north lies
    """

    sun_from: Annotated[Literal["hand", "time", "mood"], Say("The sun stands", called=FROM)] = "hand"
    sun_bearing_deg: Annotated[Bearing, Say("Bearing", "°", when="sun_from=hand")] = 315.0
    sun_height_deg: Annotated[float, Field(ge=1, le=90), Say("Height", "°", when="sun_from=hand")] = 32.0
    time: Annotated[Time | None, Say("Date and time, with its offset", left_out="none", when="sun_from=time")] = None
    latitude_deg: Annotated[Latitude | None, Say("Latitude", "°", left_out="none", when="sun_from=time")] = None
    longitude_deg: Annotated[Longitude | None, Say("Longitude", "°", left_out="none", when="sun_from=time")] = None
    north_deg: Annotated[Bearing, Say("True north at", "°", when="sun_from=time")] = 0.0
    mood: Annotated[Key | None, Names("moods", "clear"), UNASKED] = None
    relief: Annotated[Literal["sun", "sides", "sky", "mixed"], Say("Shaped by", called=RELIEF)] = "sun"
    relief_percent: Annotated[float, Field(ge=0, le=200), Say("How strongly", "%")] = 100.0

    @property
    def title(self) -> str:
        return "the light"

    @model_validator(mode="after")
    def _has_a_place(self) -> Light:
        if (self.latitude_deg is None) != (self.longitude_deg is None):
            missing = "latitude_deg" if self.latitude_deg is None else "longitude_deg"
            raise InvalidInput("latitude_deg and longitude_deg go together", missing)
        if self.sun_from == "time" and (self.time is None or self.latitude_deg is None):
            raise InvalidInput("a sun by time needs time, latitude_deg and longitude_deg", "sun_from")
        return self


def _plan(change: Change[Light], look: Look) -> Plan:
    """What of the sun is said last is where it comes from."""
    new, old = change.new, change.old or Light()
    if new is None:
        return plainly(LIGHT, change)
    differ = {name for name in Light.model_fields if getattr(new, name) != getattr(old, name)}
    if differ and differ <= {"relief", "relief_percent"}:
        return Plan(f"Ground shaped by {RELIEF[new.relief]}, {new.relief_percent:g} %", {("light", "sun"): new})
    if new.sun_from == old.sun_from:
        if differ & {"sun_bearing_deg", "sun_height_deg"}:
            new = new.model_copy(update={"sun_from": "hand"})
        elif "mood" in differ:
            new = new.model_copy(update={"sun_from": "mood" if new.mood else "hand"})
        elif (
            differ & {"time", "latitude_deg", "longitude_deg", "north_deg"}
            and new.time
            and new.latitude_deg is not None
        ):
            new = new.model_copy(update={"sun_from": "time"})
    made = plainly(LIGHT, change)
    return Plan(_words(new) or made.words, {("light", "sun"): new})


def _words(light: Light) -> str:
    if light.sun_from == "time" and light.time is not None:
        return f"Sun of {light.time.isoformat(' ', 'minutes')}"
    if light.sun_from == "mood":
        return "Light of a mood"
    return f"Sun at {light.sun_bearing_deg:g}°, {light.sun_height_deg:g}° high"


LIGHT = Collection(
    "light", Light, "sun", only="sun", first=Light(), pictured="shade", plan=_plan, words=_words,
)  # fmt: skip


class Mood(Row):
    """Collection "moods": a light by name.

    sun : bearing and height; below 0 it has set [°]
    haze_m : how far one sees; haze_top_m : the height above the sea at which the haze is a third as thick, none where
        it is as thick everywhere [m]
    night_lux : what level ground gets of the night's sky alone [lx]
    exposure_stops : how many stops over full daylight the eye is held at; it follows the light where that is left out
    beyond : what lies past the edge of the land
    """

    name: Name
    sun_bearing_deg: Annotated[Bearing, Say("Sun at", "°")] = 180.0
    sun_height_deg: Annotated[SunHeight, Say("Sun's height", "°")] = 40.0
    sky: Annotated[Literal["clear", "overcast"], Say("Sky")] = "clear"
    turbidity: Annotated[float, Field(ge=1.8, le=8), Say("Turbidity", hint="2 is clear", when="sky=clear")] = 2.5
    haze_m: Annotated[float, Field(ge=50, le=200_000), Say("One sees", "m")] = 20_000.0
    haze_top_m: Annotated[
        float | None, Field(ge=1, le=5000), Say("Haze up to", "m", left_out="as thick everywhere")
    ] = None
    weather: Annotated[Literal["dry", "rain", "snow"], Say("Weather")] = "dry"
    wind_m_s: Annotated[float, Field(ge=0, le=40), Say("Wind", "m/s")] = 3.0
    moon_bearing_deg: Annotated[Bearing, Say("Moon at", "°", under="Night")] = 140.0
    moon_height_deg: Annotated[SunHeight, Say("Moon's height", "°", under="Night")] = -10.0
    moon_lit: Annotated[float, Field(ge=0, le=1), Say("Lit", "%", percent=True, under="Night")] = 0.5
    night_lux: Annotated[float, Field(ge=0.0001, le=5), Say("A night gives", "lx", under="Night")] = 0.001
    lamps: Annotated[bool, Say("Lamps are lit", under="Night")] = True
    beyond: Annotated[
        Literal["haze", "sea", "ground"],
        Say("Past the edge", called={"haze": "haze", "sea": "the sea", "ground": "ground"}, under="Land and water"),
    ] = "haze"
    water: Annotated[Colour, Say("Water seen as", under="Land and water")] = WATER
    exposure_stops: Annotated[
        float | None, Field(ge=-6, le=24), Say("Held at", "stops", left_out="follows the eye", under="Exposure")
    ] = None


MOODS = Collection("moods", Mood, "mood", pictured="shade", most=64)


class Lamp(Row):
    """Collection "lamps": a placed light.

    over_m : above the ground [m]; lumens : all of its light; reach_m : further off it is not followed [m]
    cone_deg : the full angle that it shines into, straight down; 360 all around [°]
    lit : always, where the ground gets less than `DARK_LUX`, or between two hours of the world's time
    """

    name: Name
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    over_m: Annotated[float, Field(ge=0.05, le=500), Say("Over the ground", "m")] = 3.0
    lumens: Annotated[float, Field(ge=1, le=1e6), Say("Gives", "lm")] = 800.0
    reach_m: Annotated[float, Field(ge=0.5, le=200), Say("Reach", "m")] = 25.0
    kelvin: Annotated[float | None, Field(ge=KELVIN[0], le=KELVIN[1]), Say("Colour as", "K", left_out="the colour")] = (
        2700.0
    )
    colour: Annotated[Colour, Say("Colour")] = "#ffd9a0"
    lit: Annotated[
        Literal["dark", "always", "hours"],
        Say("Lit", called={"dark": "when it is dark", "always": "always", "hours": "between hours"}),
    ] = "dark"
    from_h: Annotated[Hour, Say("From", "h", when="lit=hours")] = 18.0
    to_h: Annotated[Hour, Say("To", "h", when="lit=hours")] = 6.0
    cone_deg: Annotated[float, Field(ge=5, le=360), Say("Cone", "°", under="More")] = 360.0
    shadows: Annotated[bool, Say("The ground stops it", under="More")] = False
    group: Annotated[str, Field(max_length=40), Say("Group", under="More")] = ""
    tract: Annotated[TractId | None, UNASKED] = None


LAMPS = Collection("lamps", Lamp, "lamp", in_tract=True, pictured="shade", packed=True, most=10_000)


class Mist(Row):
    """Collection "mists": a bank of haze around a place, as wide and as high as it says. [m]

    density : how much is lost of what is seen through its middle, on a hundred metres [%]
    drift_m_s : how fast it goes with the wind, and comes back
    """

    name: Name
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    radius_m: Annotated[float, Field(ge=2, le=5000), Say("Radius", "m")] = 60.0
    height_m: Annotated[float, Field(ge=0.5, le=500), Say("Height", "m")] = 4.0
    density: Annotated[float, Field(ge=0, le=0.999), Say("Thickness", "%", percent=True)] = 0.6
    drift_m_s: Annotated[float, Field(ge=0, le=20), Say("Drift", "m/s")] = 0.5
    tract: Annotated[TractId | None, UNASKED] = None


MISTS = Collection("mists", Mist, "mist", in_tract=True, packed=True, most=200)
