"""The texts of the help, by their keys: read once from `web/help/manual.toml`, and checked by their type."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

from pydantic import TypeAdapter

TEXTS = Path(__file__).parent.parent / "help" / "manual.toml"
SOURCES = "sources"

_SHAPE: TypeAdapter[dict[str, dict[str, str]]] = TypeAdapter(dict[str, dict[str, str]])


@cache
def manual() -> dict[str, str]:
    """Every text by its key, which is its table and its name ("tool.raise")."""
    tables = _SHAPE.validate_python(tomllib.loads(TEXTS.read_text("utf-8")))
    return {
        f"{table}.{name}": words for table, rows in tables.items() if table != SOURCES for name, words in rows.items()
    }


@cache
def sources() -> dict[str, str]:
    """Where a fact that a text states comes from, by the text's key."""
    tables = _SHAPE.validate_python(tomllib.loads(TEXTS.read_text("utf-8")))
    return tables.get(SOURCES, {})


def words_for(key: str) -> str:
    """The text of a key; empty where there is none."""
    return manual().get(key, "")
