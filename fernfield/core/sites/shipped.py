"""The kit that ships with the application: Sallow Reach's buildings, works and small things, made by code. All of it is
invented; the next entry is one more here."""

from __future__ import annotations

import math

from fernfield.core.sites.carpentry import door, planks, posts, sails, spiked
from fernfield.core.sites.kit import TINT_COLOURS, DataField, Entry, Look, Part, Shining

STONE, DARK_STONE, LIME = "#93907f", "#6f6d62", "#c9c4b2"
BRICK, TILE, SLATE, THATCH = "#8d6a52", "#7d4f3a", "#565c60", "#a08a5c"
TIMBER, TARRED, PALE_TIMBER, IRON = "#7a6148", "#45403a", "#a8977a", "#4a4e50"
PEAT, WATER, GLASS, EMBER, LINEN = "#4a3a2c", "#5f7f86", "#a9bcc0", "#c2632f", "#d8d2c0"


SHIPPED: dict[str, Entry] = {
    entry.name: entry
    for entry in (
        Entry(
            "pump_house",
            "Pump house",
            "Waterworks",
            ("building", "brick", "sluice"),
            parts=(
                Part("box", (9.0, 12.0, 4.4)),
                Part("gable", (9.8, 12.8, 3.1), (0.0, 0.0, 4.3), "roof", looks=("plain", "old")),
                Part("box", (1.6, 1.6, 9.4), (3.2, -4.2, 0.0), "stack"),
                Part("box", (1.9, 1.9, 0.4), (3.2, -4.2, 9.2), "stack", least=1, firm=False),
                door(0.0, 6.05, 2.6, 3.0),
                *(
                    Part("box", (0.14, 1.3, 1.6), (s * 4.5, y, 1.6), "window", least=1, firm=False)
                    for s in (-1, 1)
                    for y in (-3.6, 0.0, 3.6)
                ),
                Part("drum", (1.5, 1.5, 1.1), (-5.6, 3.6, 0.0), "pipe", least=1),
                *(
                    Part("box", (9.4, 0.35, 0.35), (0.0, y, 4.4), "beam", looks=("ruined",), firm=False)
                    for y in (-5.0, -1.5, 2.0, 5.4)
                ),
            ),
            inks={
                "body": BRICK,
                "roof": SLATE,
                "stack": "#7c5a46",
                "door": "#39483f",
                "window": GLASS,
                "pipe": IRON,
                "beam": TIMBER,
            },
            looks=(
                Look("plain", "in use"),
                Look("old", "weathered", {"body": "#7f6a5a", "roof": "#6a6a5d"}),
                Look("ruined", "roof fallen in", {"body": "#6f5d50"}),
            ),
            tints=TINT_COLOURS,
            meets="pad",
            pad_m=1.5,
            shoulder_m=4.0,
            margin_m=1.5,
        ),
        Entry(
            "windpump",
            "Windpump",
            "Waterworks",
            ("tower", "landmark", "wind"),
            parts=(
                Part("drum", (4.8, 4.8, 9.6), taper=0.62),
                Part("drum", (3.5, 3.5, 1.1), (0.0, 0.0, 9.5), "cap", taper=0.9),
                Part("drum", (3.2, 3.2, 1.5), (0.0, 0.0, 10.5), "cap", taper=0.15),
                Part("box", (0.35, 2.2, 0.35), (0.0, 1.1, 10.2), "frame", firm=False),
                *sails((0.0, 2.05, 10.4), 6.4, ("plain", "tarred")),
                *sails((0.0, 2.05, 10.4), 3.1, ("still",), 61.0),
                Part("box", (0.2, 3.6, 0.2), (0.0, -2.6, 10.4), "frame", least=1, firm=False),
                Part("box", (0.12, 1.0, 1.6), (0.0, -4.2, 9.8), "sail", least=1, firm=False),
                door(0.0, 2.35, 1.0, 2.0),
            ),
            inks={"body": TARRED, "cap": "#5d6f62", "frame": PALE_TIMBER, "sail": LINEN, "door": "#6f4a3a"},
            looks=(
                Look("plain", "turning"),
                Look("tarred", "all tarred", {"cap": TARRED, "sail": "#b0a893"}),
                Look("still", "sails broken off", {"body": "#5c574e"}),
            ),
            tints=TINT_COLOURS,
            stood_on=False,
            margin_m=2.0,
        ),
        Entry(
            "sluice_gate",
            "Sluice gate",
            "Waterworks",
            ("water", "crossing"),
            parts=(
                Part("box", (1.1, 1.6, 4.6), (-3.6, 0.0, -1.4), "stone"),
                Part("box", (1.1, 1.6, 4.6), (3.6, 0.0, -1.4), "stone"),
                Part("box", (6.2, 0.3, 3.0), (0.0, 0.0, -1.2), "gate"),
                *(Part("box", (0.22, 0.5, 3.3), (x, 0.0, -1.2), "rib", least=1, firm=False) for x in (-2.0, 0.0, 2.0)),
                Part("box", (8.4, 0.9, 0.35), (0.0, 0.0, 3.2), "rib"),
                Part("drum", (0.2, 0.2, 1.6), (0.0, 0.0, 1.8), "iron", least=1, firm=False),
                Part("drum", (1.3, 1.3, 0.12), (0.0, 0.56, 4.0), "iron", pitch_deg=90.0, least=1, firm=False),
            ),
            inks={"stone": STONE, "gate": "#4f4a41", "rib": TIMBER, "iron": IRON},
            looks=(Look("plain", "shut"), Look("green", "overgrown", {"stone": "#74806a", "gate": "#4d5646"})),
            fields=(
                DataField("open_share", "Stands open", unit="%", low=0, high=100, first=0),
                DataField("reopened", "Reopened", "tick", first=False),
            ),
            margin_m=1.0,
        ),
        Entry(
            "boardwalk",
            "Boardwalk",
            "Ways",
            ("path", "wet ground"),
            parts=(*planks(1.8, 8.0, 0.34), *posts((-0.75, 0.75), (-3.6, -1.2, 1.2, 3.6), 1.3, 0.14, z=-0.9)),
            inks={"deck": PALE_TIMBER, "post": TIMBER},
            looks=(Look("plain", "new boards"), Look("old", "silvered", {"deck": "#9a958a", "post": "#6f6a60"})),
            meets="lies",
            margin_m=0.3,
        ),
        Entry(
            "bird_hide",
            "Bird hide",
            "Small works",
            ("hut", "lookout"),
            parts=(
                *posts((-1.5, 1.5), (-1.2, 1.2), 1.5, 0.2, z=-0.3, least=0),
                Part("box", (3.6, 3.0, 0.16), (0.0, 0.0, 1.1), "wall"),
                Part("box", (3.6, 0.12, 1.1), (0.0, 1.44, 1.2), "wall"),
                Part("box", (3.6, 0.12, 0.5), (0.0, 1.44, 2.75), "wall"),
                Part("box", (3.6, 0.12, 2.1), (0.0, -1.44, 1.2), "wall"),
                Part("box", (0.12, 3.0, 2.1), (-1.74, 0.0, 1.2), "wall"),
                Part("box", (0.12, 3.0, 2.1), (1.74, 0.0, 1.2), "wall"),
                Part("gable", (4.3, 3.6, 1.1), (0.0, 0.0, 3.2), "roof"),
                Part("stair", (1.0, 1.5, 1.2), (0.0, -2.2, 0.0), "wall", least=1),
            ),
            inks={"wall": TIMBER, "post": TARRED, "roof": THATCH},
            looks=(Look("plain", "thatched"), Look("shingled", "shingled", {"roof": "#7d7365"})),
            tints=TINT_COLOURS,
            margin_m=0.8,
        ),
        Entry(
            "lime_kiln",
            "Lime kiln",
            "Buildings",
            ("stone", "ruin", "landmark"),
            parts=(
                Part("drum", (8.0, 8.0, 6.2), taper=0.78),
                Part("drum", (5.2, 5.2, 0.5), (0.0, 0.0, 6.1), "rim"),
                Part("arch", (4.4, 2.2, 3.6), (0.0, 3.0, 0.0), "rim", taper=0.55),
                Part("box", (2.2, 0.2, 2.3), (0.0, 3.2, 0.0), "soot", least=1, firm=False),
                Part("ramp", (2.6, 6.0, 5.6), (0.0, -6.0, 0.0), "bank"),
                Part("heap", (2.6, 2.2, 1.0), (3.9, 4.2, 0.0), "lime", least=1),
            ),
            inks={"body": STONE, "rim": LIME, "soot": "#2b2825", "bank": "#7d7a5e", "lime": "#ddd8c8"},
            looks=(
                Look("plain", "cold"),
                Look("mossy", "mossed over", {"body": "#7c8068", "rim": "#9a9a7e"}),
                Look("lit", "burning", {"soot": EMBER}),
            ),
            meets="pad",
            pad_m=1.0,
            shoulder_m=4.0,
            margin_m=1.5,
        ),
        Entry(
            "stone_barn",
            "Stone barn",
            "Buildings",
            ("farm", "stone"),
            parts=(
                Part("box", (10.0, 18.0, 4.8)),
                Part("gable", (10.8, 18.8, 3.4), (0.0, 0.0, 4.7), "roof", looks=("plain", "slate")),
                door(0.0, 9.05, 3.6, 3.8),
                Part("box", (0.14, 3.2, 3.6), (5.0, -2.5, 0.0), "door", least=1, firm=False),
                *(
                    Part("box", (0.16, 0.5, 1.1), (s * 5.0, y, 2.4), "slit", least=1, firm=False)
                    for s in (-1, 1)
                    for y in (-6.6, 2.6, 6.4)
                ),
                *(
                    Part("box", (10.2, 0.35, 0.35), (0.0, y, 4.7), "beam", looks=("ruined",), firm=False)
                    for y in (-8.0, -4.0, 0.0, 4.0, 8.0)
                ),
            ),
            inks={"body": STONE, "roof": THATCH, "door": TIMBER, "slit": "#33332e", "beam": TIMBER},
            looks=(
                Look("plain", "thatched"),
                Look("slate", "slated", {"roof": SLATE}),
                Look("ruined", "roofless", {"body": "#827f70"}),
            ),
            tints=TINT_COLOURS,
            meets="pad",
            pad_m=1.5,
            shoulder_m=4.0,
            margin_m=1.5,
        ),
        Entry(
            "jetty",
            "Jetty",
            "Ways",
            ("water", "landing"),
            parts=(
                *planks(2.6, 12.0, 0.5),
                *posts((-1.1, 1.1), (-5.4, -1.8, 1.8, 5.4), 4.2, 0.26, z=-3.0),
                *(Part("drum", (0.3, 0.3, 0.7), (s * 1.1, 5.6, 0.6), "post", least=1, firm=False) for s in (-1, 1)),
            ),
            inks={"deck": PALE_TIMBER, "post": TARRED},
            looks=(Look("plain", "sound"), Look("old", "silvered", {"deck": "#9a958a"})),
            meets="floats",
            margin_m=0.3,
        ),
        Entry(
            "footbridge",
            "Footbridge",
            "Ways",
            ("crossing", "path"),
            parts=(
                Part("box", (2.0, 10.0, 0.25), (0.0, 0.0, 0.9), "deck"),
                Part("ramp", (2.0, 2.4, 1.1), (0.0, -6.1, 0.0), "deck"),
                Part("ramp", (2.0, 2.4, 1.1), (0.0, 6.1, 0.0), "deck", turn_deg=180.0),
                *(Part("box", (0.12, 10.0, 0.12), (s * 0.95, 0.0, 1.95), "rail", least=1) for s in (-1, 1)),
                *posts((-0.95, 0.95), (-4.9, -1.6, 1.6, 4.9), 2.6, 0.14, z=-0.6),
            ),
            inks={"deck": PALE_TIMBER, "rail": TIMBER, "post": TIMBER},
            looks=(
                Look("plain", "new boards"),
                Look("old", "silvered", {"deck": "#9a958a", "rail": "#77726a", "post": "#77726a"}),
            ),
            margin_m=0.3,
        ),
        Entry(
            "bridge_bay",
            "Bridge bay",
            "Ways",
            ("crossing", "road", "water"),
            parts=(
                Part("box", (4.0, 4.4, 0.35), (0.0, 0.0, -0.35), "deck"),
                *(Part("box", (4.0, 0.3, 0.5), (0.0, y, -0.8), "post") for y in (-1.6, 1.6)),
                *(Part("box", (4.0, 0.12, 0.12), (0.0, y, 0.95), "rail", least=1) for y in (-2.1, 2.1)),
                *posts((-1.8, 1.8), (-2.1, 2.1), 1.1, 0.14, least=2),
                *posts((0.0,), (-1.7, 1.7), 7.0, 0.4, z=-7.8, least=0),
            ),
            inks={"deck": PALE_TIMBER, "rail": TIMBER, "post": TIMBER},
            looks=(
                Look("plain", "sound"),
                Look("old", "silvered", {"deck": "#9a958a", "rail": "#77726a", "post": "#77726a"}),
            ),
            margin_m=0.0,
        ),
        Entry(
            "beacon",
            "Beacon",
            "Landmarks",
            ("fire", "tower", "lookout"),
            parts=(
                Part("drum", (3.2, 3.2, 1.2)),
                Part("drum", (0.55, 0.55, 7.4), (0.0, 0.0, 1.0), "post", taper=0.8),
                *(
                    Part(
                        "box",
                        (0.22, 0.22, 2.6),
                        (math.sin(a) * 1.1, math.cos(a) * 1.1, 1.0),
                        "post",
                        pitch_deg=-24.0,
                        turn_deg=math.degrees(a),
                        least=1,
                        firm=False,
                    )
                    for a in (0.0, 2.09, 4.19)
                ),
                Part("drum", (1.7, 1.7, 0.2), (0.0, 0.0, 8.3), "iron"),
                *spiked(1.5, 0.8, 8, "iron", 8.4),
                Part("heap", (1.3, 1.3, 0.9), (0.0, 0.0, 8.45), "fire"),
            ),
            inks={"body": STONE, "post": "#7a4b35", "iron": IRON, "fire": "#3a322b"},
            looks=(Look("plain", "laid"), Look("lit", "burning", {"fire": EMBER})),
            shines=Shining(9.5, 6000.0, "#ffb060"),
            tints=TINT_COLOURS,
            stood_on=False,
            margin_m=1.5,
        ),
        Entry(
            "cairn",
            "Cairn",
            "Landmarks",
            ("stone", "path"),
            parts=(
                Part("heap", (2.2, 2.2, 0.9)),
                Part("heap", (1.5, 1.5, 0.9), (0.1, 0.0, 0.6), "upper"),
                Part("heap", (0.8, 0.8, 0.6), (0.0, 0.05, 1.25), "upper"),
                Part("box", (0.5, 0.2, 0.5), (0.0, 0.0, 1.7), "top", turn_deg=20.0, least=1),
            ),
            inks={"body": DARK_STONE, "upper": STONE, "top": LIME},
            looks=(Look("plain", "bare"), Look("lichen", "with lichen", {"upper": "#a3a184", "body": "#7c7c66"})),
            stood_on=False,
            blocks="cylinder",
            meets="sinks",
            sinks_m=0.1,
        ),
        Entry(
            "field_wall",
            "Field wall",
            "Farm",
            ("stone", "wall", "boundary"),
            parts=(
                Part("rubble", (12.0, 0.7, 1.2)),
                *(
                    Part(
                        "box",
                        (0.5, 0.62, 0.24),
                        (x, 0.0, 1.05),
                        "cope",
                        roll_deg=7.0 if k % 2 else -7.0,
                        least=2,
                        firm=False,
                    )
                    for k, x in enumerate((-5.4, -4.2, -3.0, -1.8, -0.6, 0.6, 1.8, 3.0, 4.2, 5.4))
                ),
            ),
            inks={"body": "#8a8676", "cope": STONE},
            looks=(Look("plain", "sound"), Look("mossy", "mossed over", {"body": "#767a62", "cope": "#838768"})),
            meets="lies",
            sinks_m=0.15,
            stood_on=False,
            blocks="box",
        ),
        Entry(
            "gateway",
            "Gateway",
            "Farm",
            ("stone", "gate", "boundary"),
            parts=(
                Part("box", (0.8, 0.8, 2.2), (-2.0, 0.0, 0.0)),
                Part("box", (0.8, 0.8, 2.2), (2.0, 0.0, 0.0)),
                *(
                    Part("drum", (0.9, 0.9, 0.45), (x, 0.0, 2.2), "cope", taper=0.2, least=1, firm=False)
                    for x in (-2.0, 2.0)
                ),
                *(
                    Part("box", (1.5, 0.08, 0.12), (s * 0.8, 0.0, z), "gate", least=1, looks=("plain",))
                    for s in (-1, 1)
                    for z in (0.35, 0.7, 1.1)
                ),
                *(
                    Part("box", (0.08, 1.5, 0.12), (s * 1.55, 0.8, z), "gate", least=1, looks=("open",), firm=False)
                    for s in (-1, 1)
                    for z in (0.35, 0.7, 1.1)
                ),
            ),
            inks={"body": "#8a8676", "cope": STONE, "gate": TIMBER},
            looks=(Look("plain", "shut"), Look("open", "open")),
            fields=(DataField("key", "Opens with", "text", first=""),),
            meets="sinks",
            sinks_m=0.2,
            stood_on=False,
        ),
        Entry(
            "hurdle",
            "Hurdle",
            "Farm",
            ("fence", "boundary", "timber"),
            parts=(
                *posts((-1.9, 1.9), (0.0,), 1.4, 0.14, z=-0.2, least=0),
                *(Part("box", (3.8, 0.06, 0.16), (0.0, 0.0, z), "rail", least=1) for z in (0.25, 0.6, 0.95)),
                Part("box", (3.8, 0.05, 0.9), (0.0, 0.0, 0.2), "rail"),
            ),
            inks={"post": TIMBER, "rail": PALE_TIMBER},
            looks=(Look("plain", "split oak"), Look("old", "silvered", {"post": "#77726a", "rail": "#9a958a"})),
            meets="lies",
            stood_on=False,
            blocks="box",
            margin_m=0.2,
        ),
        Entry(
            "hand_cart",
            "Hand cart",
            "Farm",
            ("cart", "timber", "movable"),
            parts=(
                Part("box", (1.2, 2.0, 0.14), (0.0, 0.0, 0.72), "bed"),
                *(Part("box", (0.07, 2.0, 0.42), (s * 0.58, 0.0, 0.8), "bed", least=1) for s in (-1, 1)),
                Part("box", (1.2, 0.07, 0.42), (0.0, -0.97, 0.8), "bed", least=1),
                *(Part("drum", (1.2, 1.2, 0.1), (s * 0.72 - 0.05, -0.1, 0.6), "wheel", roll_deg=90.0) for s in (-1, 1)),
                *(
                    Part("box", (0.08, 1.7, 0.08), (s * 0.5, 1.75, 0.74), "wheel", pitch_deg=4.0, least=1, firm=False)
                    for s in (-1, 1)
                ),
            ),
            inks={"bed": TIMBER, "wheel": TARRED},
            looks=(Look("plain", "plain"), Look("painted", "painted blue", {"bed": "#3f617a"})),
            tints=TINT_COLOURS,
            meets="lies",
            stood_on=False,
            margin_m=0.3,
        ),
        Entry(
            "tool_cache",
            "Tool cache",
            "Small works",
            ("chest", "supplies"),
            parts=(
                Part("box", (1.5, 0.9, 0.7)),
                Part("gable", (1.6, 1.0, 0.4), (0.0, 0.0, 0.68), "lid"),
                *(Part("box", (0.08, 0.96, 0.72), (x, 0.0, 0.0), "iron", least=2, firm=False) for x in (-0.5, 0.5)),
            ),
            inks={"body": TIMBER, "lid": TARRED, "iron": IRON},
            looks=(Look("plain", "tarred"), Look("painted", "painted", {"body": "#5d7a4a"})),
            tints=TINT_COLOURS,
            stood_on=False,
            blocks="box",
            overlaps=False,
            meets="lies",
            fields=(
                DataField("contents", "Holds", "text", first="spade, rope"),
                DataField("uses", "Uses", low=1, high=99, first=3),
            ),
        ),
        Entry(
            "spring_head",
            "Spring head",
            "Resources",
            ("water", "resource", "stone"),
            parts=(
                Part("bowl", (3.0, 3.0, 0.8)),
                Part("drum", (2.1, 2.1, 0.06), (0.0, 0.0, 0.5), "water", firm=False),
                Part("box", (0.5, 0.5, 1.5), (0.0, -1.4, 0.0), "body"),
                Part("box", (0.18, 0.8, 0.16), (0.0, -0.9, 1.1), "spout", least=1, firm=False),
            ),
            inks={"body": STONE, "water": WATER, "spout": IRON},
            looks=(Look("plain", "running"), Look("mossy", "mossed over", {"body": "#7c8068"})),
            fields=(DataField("amount_l", "Gives", unit="l", low=0, high=100_000, first=800),),
            resource=True,
            meets="sinks",
            sinks_m=0.1,
            stood_on=False,
            margin_m=0.8,
        ),
        Entry(
            "peat_stack",
            "Peat stack",
            "Resources",
            ("fuel", "resource"),
            parts=(
                Part("box", (3.0, 5.0, 1.0), taper=0.86),
                Part("gable", (2.7, 4.4, 0.8), (0.0, 0.0, 0.98), "top"),
                *(
                    Part("box", (0.5, 0.3, 0.26), (x, y, 0.0), "top", turn_deg=40.0 * x, least=2, firm=False)
                    for x, y in ((-1.9, 1.2), (1.9, -0.6), (1.8, 1.9), (-1.8, -1.7))
                ),
            ),
            inks={"body": PEAT, "top": "#5a4735"},
            looks=(Look("plain", "drying"), Look("thatched", "under reeds", {"top": THATCH})),
            fields=(DataField("amount_kg", "Holds", unit="kg", low=0, high=100_000, first=600),),
            resource=True,
            meets="lies",
            stood_on=False,
            blocks="box",
        ),
        Entry(
            "clay_pit",
            "Clay pit",
            "Resources",
            ("digging", "resource"),
            parts=(
                Part("heap", (4.4, 2.2, 1.1), (0.0, -2.2, 0.0)),
                Part("heap", (2.4, 1.8, 0.7), (2.6, 0.4, 0.0)),
                Part("box", (3.2, 2.4, 0.1), (-0.6, 0.8, -0.04), "wet", firm=False),
                Part("box", (0.3, 2.6, 0.08), (0.9, 1.4, 0.1), "plank", turn_deg=18.0, least=1, firm=False),
                Part("box", (0.12, 0.12, 1.3), (-1.9, -1.0, 0.4), "plank", roll_deg=18.0, least=1, firm=False),
            ),
            inks={"body": "#9a7f63", "wet": "#75614f", "plank": PALE_TIMBER},
            looks=(Look("plain", "being dug"), Look("old", "grown in", {"body": "#8d8a63"})),
            fields=(DataField("amount_kg", "Holds", unit="kg", low=0, high=1_000_000, first=5000),),
            resource=True,
            meets="lies",
            blocks="parts",
        ),
        Entry(
            "lamp_post",
            "Lamp post",
            "Small works",
            ("light", "iron"),
            parts=(
                Part("drum", (0.4, 0.4, 0.5), (0.0, 0.0, 0.0), "iron"),
                Part("drum", (0.14, 0.14, 3.2), (0.0, 0.0, 0.4), "iron"),
                Part("box", (0.34, 0.34, 0.46), (0.0, 0.0, 3.5), "glass", taper=1.25),
                Part("drum", (0.6, 0.6, 0.28), (0.0, 0.0, 3.96), "iron", taper=0.1),
            ),
            inks={"iron": IRON, "glass": "#e8d9a0"},
            looks=(Look("plain", "iron"), Look("green", "painted green", {"iron": "#3d5a48"})),
            shines=Shining(3.7, 1400.0),
            stood_on=False,
            blocks="cylinder",
            margin_m=0.2,
            meets="sinks",
            sinks_m=0.05,
        ),
        Entry(
            "marker_buoy",
            "Marker buoy",
            "Waterworks",
            ("water", "marker"),
            parts=(
                Part("drum", (1.2, 1.2, 0.7), (0.0, 0.0, -0.35), "float"),
                Part("drum", (0.8, 0.8, 1.5), (0.0, 0.0, 0.3), "cage", taper=0.3),
                Part("drum", (0.5, 0.5, 0.5), (0.0, 0.0, 1.75), "top", taper=0.0),
            ),
            inks={"float": "#7d3b2a", "cage": IRON, "top": "#7d3b2a"},
            looks=(Look("plain", "red"), Look("green", "green", {"float": "#2c6647", "top": "#2c6647"})),
            meets="floats",
            stood_on=False,
            blocks="cylinder",
        ),
        Entry(
            "pennant",
            "Pennant",
            "Landmarks",
            ("flag", "cloth"),
            parts=(
                Part("drum", (0.12, 0.12, 5.4), ink="pole"),
                Part("box", (0.05, 1.9, 0.9), (0.0, 0.98, 4.3), "cloth", firm=False),
                Part("ramp", (0.05, 0.9, 0.45), (0.0, 2.35, 4.52), "cloth", turn_deg=180.0, least=1, firm=False),
            ),
            inks={"pole": PALE_TIMBER, "cloth": LINEN},
            looks=(
                Look("plain", "linen"),
                Look("fern", "fern green", {"cloth": "#2c6647"}),
                Look("rust", "rust", {"cloth": "#a2431f"}),
            ),
            tints=TINT_COLOURS,
            stood_on=False,
            blocks="cylinder",
            margin_m=0.1,
        ),
    )
}


def _plain(name: str, label: str, part: Part) -> Entry:
    return Entry(name, label, "Rough", ("plain", "block-out"), (part,), {"body": "#b3a98f"}, overlaps=True)


ROUGH: dict[str, Entry] = {
    entry.name: entry
    for entry in (
        _plain("block", "Block", Part("box", (4.0, 4.0, 3.0))),
        _plain("cylinder", "Cylinder", Part("drum", (4.0, 4.0, 3.0))),
        _plain("ramp", "Ramp", Part("ramp", (3.0, 6.0, 2.0))),
        _plain("stair", "Stair", Part("stair", (2.0, 4.0, 2.4))),
        _plain("arch", "Arch", Part("arch", (6.0, 1.5, 4.0))),
    )
}
"""Plain forms of stated measures to rough things out with: what a user's own entries begin as."""

KIT = {**SHIPPED, **ROUGH}
