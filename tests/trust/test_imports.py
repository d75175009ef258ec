"""What the application imports is what its lock file installs: tests run with more than a fresh machine has."""

from __future__ import annotations

import ast
import sys
from importlib.metadata import packages_distributions
from pathlib import Path

import fernfield

ROOT = Path(fernfield.__file__).parent
LOCKED = {
    line.split("==")[0].lower().replace("_", "-") for line in (ROOT.parent / "requirements.lock").read_text().split()
}
OPTIONAL = {"pyarrow", "distributed", "dask", "httpx2"}
"""Of extras of their own: imported where a cluster, a format or a client is asked for."""


def imported(path: Path) -> set[str]:
    """The first names of all that a file imports from elsewhere."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name.split(".")[0] for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.level == 0 and node.module:
            found.add(node.module.split(".")[0])
    return found - set(sys.stdlib_module_names) - {"fernfield"}


def test_all_that_is_imported_is_in_the_lock_file() -> None:
    """Measurements (`bench`) may compare with what only the tests have."""
    of = packages_distributions()
    missing = {}
    for path in ROOT.rglob("*.py"):
        if "bench" in path.relative_to(ROOT).parts:
            continue
        for name in imported(path) - OPTIONAL:
            if not {one.lower().replace("_", "-") for one in of.get(name, [name])} & LOCKED:
                missing[name] = str(path.relative_to(ROOT))
    assert missing == {}
    assert {"numpy", "scipy", "fastapi"} <= LOCKED
