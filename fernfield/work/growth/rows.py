"""Growth as a world keeps it: kinds of plants and stones, and the mixes that they are sown in."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.growth.shapes import FORMS
from fernfield.core.growth.spacing import DENSEST_PER_HA, MOST_APART_M, Pattern
from fernfield.work.asking.conditions import Conditions, contradiction
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Bearing, Change, Collection, Colour, Key, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

FormName = Literal[
    "broadleaf", "slender", "willow", "conifer", "snag", "bush", "fern", "reeds", "tussock", "boulder", "slab", "log",
]  # fmt: skip
Variant = Literal["plain", "bare", "snowed", "dead", "darker"]
VARIANTS_CALLED = {"plain": "as it is", "snowed": "snowed on"}
MOST_KINDS, MOST_IN_A_MIX = 64, 16
Share = Annotated[float, Field(ge=0, le=1)]


class Kind(Row):
    """Collection "kinds": one sort of plant or stone. Measures are those of size 1. [m]

    form : what it is made as; model : the key of a shape that somebody brought, in its place
    leans : how far it leans with the ground, 0 upright, 1 as steeply
    blocks : what of it a walker cannot pass: nothing, its trunk, a box around it, or its hull
    bends : how far it bends in wind; colour, dry_colour : of its leaves (or stone), healthy and dry
    variant : how it looks; simpler_m, card_m, gone_m : from where on it is drawn simpler, as a card, not at all
    in_water : it likes to stand in water; retired : it is not offered for mixes any more
    """

    name: Name
    form: Annotated[FormName, Say("Form", called={name: form.label for name, form in FORMS.items()})]
    model: Annotated[Key | None, UNASKED] = None
    tall_m: Annotated[float, Field(gt=0, le=100), Say("Height", "m")]
    crown_m: Annotated[float, Field(gt=0, le=50), Say("Radius of its crown", "m")]
    trunk_m: Annotated[float, Field(ge=0, le=20), Say("Radius of its trunk", "m")] = 0.0
    leans: Annotated[Share, Say("Leans with the ground", "%", percent=True)] = 0.0
    blocks: Annotated[Literal["nothing", "trunk", "box", "hull"], Say("Blocks a walker by its")] = "nothing"
    bends: Annotated[Share, Say("Bends in wind", "%", percent=True)] = 0.0
    colour: Annotated[Colour, Say("Colour")]
    dry_colour: Annotated[Colour, Say("Colour when dry")] = "#a59a5e"
    bark_colour: Annotated[Colour, Say("Colour of its bark")] = "#5a4a38"
    variant: Annotated[Variant, Say("Looks", called=VARIANTS_CALLED)] = "plain"
    simpler_m: Annotated[float, Field(ge=1, le=5_000), Say("Simpler from", "m")] = 60.0
    card_m: Annotated[float, Field(ge=1, le=10_000), Say("A card from", "m")] = 160.0
    gone_m: Annotated[float, Field(ge=1, le=20_000), Say("Gone from", "m")] = 2_000.0
    in_water: Annotated[bool, Say("Likes to stand in water")] = False
    retired: Annotated[bool, UNASKED] = False

    @model_validator(mode="after")
    def _in_their_order(self) -> Kind:
        if not self.simpler_m <= self.card_m <= self.gone_m:
            said = f"{self.simpler_m:g}, {self.card_m:g}, {self.gone_m:g} m"
            raise InvalidInput(f"simpler, card and gone come in this order, not at {said}", "card_m")
        return self


class Part(Row):
    """One kind of a mix: how much of it, what its plants are like, and where they want to stand.

    weight : its part of the mix is this by the sum of all weights
    size_min, size_max : of the height, a factor; spread : evenly, most in the middle, or most small
    width_min, width_max : of the width, a factor of the height's
    apart_m : the least distance between two of its plants; overlaps : it keeps no distance from other kinds
    clump, clump_m : how much they stand together, and in patches of which size
    edge, edge_m : only at the edge of what is sown, or only further inside than that
    near, near_m : only within reach of another kind of the mix that stands before it in the list
    conditions : what it asks of the ground; all must be met
    """

    kind: Annotated[Key, Names("kinds"), UNASKED]
    weight: Annotated[float, Field(ge=0, le=1_000), Say("Proportion")] = 1.0
    size_min: Annotated[float, Field(gt=0, le=100), Say("Smallest", "×")] = 1.0
    size_max: Annotated[float, Field(gt=0, le=100), Say("Largest", "×")] = 1.0
    spread: Annotated[
        Literal["even", "middle", "small"],
        Say("Sizes", called={"even": "all alike", "middle": "most in the middle", "small": "most small"}),
    ] = "even"
    width_min: Annotated[float, Field(gt=0, le=10), Say("Width, from", "×")] = 1.0
    width_max: Annotated[float, Field(gt=0, le=10), Say("Width, to", "×")] = 1.0
    turn_deg: Annotated[Bearing, Say("Faces", "°")] = 0.0
    turn_around_deg: Annotated[float, Field(ge=0, le=180), Say("Faces, give or take", "°")] = 180.0
    tilt_deg: Annotated[float, Field(ge=0, le=60), Say("Tilt, up to", "°")] = 0.0
    tint: Annotated[Share, Say("Dry, up to", "%", percent=True)] = 0.3
    sink_min_m: Annotated[float, Field(ge=-2, le=10), Say("In the ground, from", "m")] = 0.0
    sink_max_m: Annotated[float, Field(ge=-2, le=10), Say("In the ground, to", "m")] = 0.05
    apart_m: Annotated[float, Field(ge=0, le=MOST_APART_M), Say("Apart", "m")] = 0.0
    overlaps: Annotated[bool, Say("May overlap other kinds")] = False
    clump: Annotated[Share, Say("Clumps", "%", percent=True)] = 0.0
    clump_m: Annotated[float, Field(ge=2, le=500), Say("Size of clumps", "m")] = 30.0
    edge: Annotated[
        Literal["all", "edge", "inside"],
        Say("Stands", called={"all": "everywhere", "edge": "only at the edge", "inside": "only inside"}),
    ] = "all"
    edge_m: Annotated[float, Field(ge=1, le=100), Say("Depth of the edge", "m")] = 10.0
    near: Annotated[Key | None, Names("kinds"), UNASKED] = None
    near_m: Annotated[float, Field(ge=0.5, le=60), Say("Near it, within", "m")] = 8.0
    conditions: Annotated[Conditions, UNASKED] = ()

    @model_validator(mode="after")
    def _smallest_first(self) -> Part:
        for low, high, words in (
            ("size_min", "size_max", "smallest size must not be above the largest"),
            ("width_min", "width_max", "the least width must not be above the largest"),
            ("sink_min_m", "sink_max_m", "the least sink must not be above the largest"),
        ):
            if getattr(self, low) > getattr(self, high):
                raise InvalidInput(f"{words}, not {getattr(self, low):g} and {getattr(self, high):g}", low)
        clash = contradiction(self.conditions)
        if clash is not None:
            raise InvalidInput(f"the habitat of {self.kind} contradicts itself: {clash}", "conditions")
        return self


class Mix(Row):
    """Collection "mixes": kinds that are sown together, from one seed.

    density_per_ha : of all its kinds together, where it is wholly sown
    between_m : the least distance between plants of two kinds; open, open_m : which part stays free of growth, in
    glades of which size
    conditions : what all of its kinds ask of the ground, besides what each asks by itself
    """

    name: Annotated[Name, Say("Name")]
    seed: Annotated[int, Field(ge=0, lt=2**31), Say("Seed", under="More")] = 1
    density_per_ha: Annotated[float, Field(ge=0, le=DENSEST_PER_HA), Say("Density", "/ha")] = 200.0
    between_m: Annotated[float, Field(ge=0, le=MOST_APART_M), Say("Apart from other kinds", "m", under="More")] = 0.0
    open: Annotated[float, Field(ge=0, le=0.95), Say("Kept open", "%", percent=True, under="More")] = 0.0
    open_m: Annotated[float, Field(ge=2, le=1_000), Say("Size of what is open", "m", under="More")] = 60.0
    kinds: Annotated[tuple[Part, ...], Field(max_length=MOST_IN_A_MIX), UNASKED] = ()
    conditions: Annotated[Conditions, UNASKED] = ()

    @model_validator(mode="after")
    def _can_be_met(self) -> Mix:
        clash = contradiction(self.conditions)
        if clash is not None:
            raise InvalidInput(f"the habitat of {self.name} contradicts itself: {clash}", "conditions")
        return self

    @model_validator(mode="after")
    def _each_once(self) -> Mix:
        seen: list[str] = []
        for part in self.kinds:
            if part.kind in seen:
                raise InvalidInput(f"{part.kind} is twice in the mix: a kind has one place in it", "kinds")
            if part.near is not None and part.near not in seen:
                before = ", ".join(seen) or "none"
                words = f"{part.kind} stands near {part.near}, which must be listed before it; before it: {before}"
                raise InvalidInput(words, "kinds")
            seen.append(part.kind)
        return self

    def per_ha(self, part: Part) -> float:
        """How many of a part stand on a hectare that is wholly sown."""
        whole = sum(other.weight for other in self.kinds)
        return min(self.density_per_ha * part.weight / whole, DENSEST_PER_HA) if whole > 0 else 0.0

    @property
    def pattern(self) -> Pattern:
        """Where its plants can stand: more places than plants where they stand in clumps."""
        per_ha = tuple(min(self.per_ha(part) * (1 + part.clump), DENSEST_PER_HA) for part in self.kinds)
        apart = tuple(
            tuple(
                one.apart_m if one is other else 0.0 if one.overlaps or other.overlaps else self.between_m
                for other in self.kinds
            )
            for one in self.kinds
        )
        return Pattern((self.seed * 1_000_003 + 12_345) % (1 << 62), per_ha, apart)


def _plan_kind(change: Change[Kind], look: Look) -> Plan:
    if change.new is None:
        raise Conflict("a kind is removed by DELETE of its own route: its places in the mixes go too")
    if change.new.model is not None and (change.old is None or change.old.model != change.new.model):
        look.need_model(change.new.model)
    return plainly(KINDS, change)


def _plan_mix(change: Change[Mix], look: Look) -> Plan:
    if change.new is None:
        raise Conflict("a mix is removed by DELETE of its own route: what is sown of it goes too")
    return plainly(MIXES, change)


def part_before(body: dict[str, Any]) -> dict[str, Any]:
    """A kind as it stood inside of a mix, as a part of it: what was the kind's own is a row of its own now."""
    density = float(body["density_per_ha"])
    # They stood in cells of their own: about as evenly as with this distance.
    apart = min(0.5 * (10_000 / density) ** 0.5, MOST_APART_M) if density > 0 else 0.0
    return {
        "kind": body["key"], "weight": density, "size_min": body["size_min"], "size_max": body["size_max"],
        "sink_min_m": 0.05, "sink_max_m": 0.05, "tint": 0.0, "apart_m": round(apart, 2), "overlaps": True,
    }  # fmt: skip


def _upgrade_mix(body: dict[str, Any], version: int) -> dict[str, Any]:
    old = body["kinds"]
    whole = sum(float(kind["density_per_ha"]) for kind in old)
    parts = [part_before(kind) for kind in old]
    # Proportions are weights: at most 1,000.
    most = max((part["weight"] for part in parts), default=1.0)
    for part in parts:
        part["weight"] = part["weight"] * min(1.0, 1_000 / max(most, 1e-9))
    return {**body, "density_per_ha": min(whole, DENSEST_PER_HA), "kinds": parts}


KINDS = Collection("kinds", Kind, "kind", pictured="look", most=MOST_KINDS, removed_by_room=True, plan=_plan_kind)
MIXES = Collection(
    "mixes", Mix, "mix", pictured="look", most=32, removed_by_room=True, plan=_plan_mix, version=2, upgrade=_upgrade_mix
)


def mixes_of(world: OpenWorld) -> list[tuple[str, Mix]]:
    return world.each(MIXES)


def kind_of(world: OpenWorld, part: Part) -> Kind | None:
    """The kind of a part; None where it has gone."""
    found = world.rows[KINDS.name].get(part.kind)
    return found if isinstance(found, Kind) else None
