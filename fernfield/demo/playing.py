"""What a round in Sallow Reach is played for: two teams of wardens, two sluices, peat and springs, the tide."""

from __future__ import annotations

from typing import Any

from fernfield.core.sites.teams import COLOURS
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.play.aims import CAMPS, OBJECTIVES, RESOURCES
from fernfield.work.sites.play.cues import CUES
from fernfield.work.sites.play.rules import RULES
from fernfield.work.sites.play.teams import RELATIONS, TEAMS

ROWS: tuple[tuple[Any, dict[str, dict[str, Any]]], ...] = (
    (TEAMS, {
        "west": {"name": "West wardens", "number": 1, "colour": COLOURS[0], "mark": "triangle", "players_most": 1},
        "east": {"name": "East wardens", "number": 2, "colour": COLOURS[1], "mark": "square", "players_most": 1},
    }),
    (RELATIONS, {"wardens": {"one": "west", "other": "east", "stands": "peace"}}),
    (OBJECTIVES, {
        "upper": {"sort": "hold", "name": "Hold the upper sluice", "x": 387.0, "y": 446.0, "reach_m": 32.0},
        "sea": {"sort": "hold", "name": "Hold the sea sluice", "x": 622.0, "y": 106.0, "reach_m": 54.0,
                "seconds": 30.0},
    }),
    (RESOURCES, {
        "peat-west": {"name": "Moor cuttings", "of": "peat", "amount": 160, "x": 214.0, "y": 858.0, "thing": "peat"},
        "peat-fen": {"name": "Fen cutting", "of": "peat", "amount": 60, "x": 322.0, "y": 446.0},
        "peat-scar": {"name": "Kiln peat", "of": "peat", "amount": 200, "x": 702.0, "y": 470.0},
        "spring": {"name": "Scar spring", "of": "springs", "amount": 1, "back_s": 60, "x": 566.0, "y": 652.0,
                   "thing": "spring"},
        "tarn": {"name": "Tarn spring", "of": "springs", "amount": 1, "back_s": 60, "x": 828.0, "y": 742.0},
    }),
    (CAMPS, {
        "herons": {"name": "Heron watch", "guards": 3, "reach_m": 40.0, "x": 580.0, "y": 660.0, "turn_deg": 200.0},
    }),
    (CUES, {
        "turns": {
            "name": "The tide turns", "repeats": "once", "when": [{"sort": "after", "seconds": 300}],
            "then": [{"sort": "tell", "text": "The tide turns: the sluices can be opened"},
                     {"sort": "light", "thing": "beacon"}],
        },
        "opened": {
            "name": "A sluice is open", "repeats": "each",
            "when": [{"sort": "changes", "objective": "upper"}, {"sort": "changes", "objective": "sea"}],
            "then": [{"sort": "sound", "name": "sluice"}, {"sort": "count", "counter": "sluices"}],
        },
        "spring-tide": {
            "name": "The spring tide", "repeats": "once",
            "when": [{"sort": "counted", "counter": "sluices", "number": 6}],
            "then": [{"sort": "tell", "text": "The spring tide is here"}, {"sort": "mood", "mood": "evening"},
                     {"sort": "end"}],
        },
    }),
)  # fmt: skip
LAWS: dict[str, Any] = {
    "wins": [[{"sort": "every", "of": "hold"}], [{"sort": "gathered", "of": "peat", "amount": 400}]],
    "loses": [[{"sort": "over"}]], "time_s": 1800, "players_least": 2, "players_most": 2,
    "briefing": {
        "en": "The spring tide comes in half an hour. Open both sluices, or bring in the peat, before the others do.",
        "de": "In einer halben Stunde kommt die Springflut. Öffnet beide Schleusen oder holt den Torf vor den andern.",
    },
}  # fmt: skip


def set_out(world: OpenWorld) -> None:
    """Teams, objectives, what is gathered, cues and rules."""
    for collection, rows in ROWS:
        for key, said in rows.items():
            world.edit(put(collection, key, collection.checked(said)))
    world.edit(put(RULES, "world", RULES.checked(LAWS)))
