"""Changes places of the core, one at a time, and sees whether a test notices.

Places are drawn by a fixed seed from what computes: operators, comparisons, numbers and conditions inside the
functions of `fernfield/core` (cosmic-ray finds and makes the changes). Each change is tried in a copy of the project,
first by the tests that name its module, then by all tests of the core and of the room of the same name.
"""

from __future__ import annotations

import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names

ROOT = Path(__file__).parent.parent
SEED, PLACES, LEAST_CAUGHT = 9, 120, 0.8
WORKERS = 2
TRIED = {"core", "cover", "formats", "ground", "growth", "kernel", "light", "plots", "seen", "sites", "trial", "water"}
"""Folders of tests that are run once without any change: their code is compiled then."""

LONGEST_S = 900

KINDS = (
    "core/NumberReplacer", "core/ReplaceComparisonOperator", "core/ReplaceUnaryOperator", "core/AddNot",
    "core/ReplaceTrueWithFalse", "core/ReplaceFalseWithTrue", "core/ReplaceAndWithOr", "core/ReplaceOrWithAnd",
    "core/ReplaceBinaryOperator_Add_Sub", "core/ReplaceBinaryOperator_Sub_Add", "core/ReplaceBinaryOperator_Mul_Div",
    "core/ReplaceBinaryOperator_Div_Mul", "core/ReplaceBinaryOperator_Pow_Mul",
    "core/ReplaceBinaryOperator_FloorDiv_Mul", "core/ReplaceBinaryOperator_Mod_Mul",
)  # fmt: skip


@dataclass(frozen=True)
class Place:
    """One change: the file, how it is changed and which of the places where that can be done."""

    file: str
    operator: str
    occurrence: int
    line: int
    column: int


def _computing(source: str) -> set[int]:
    """Lines inside functions, without what is said of them (docstrings, annotations of their arguments)."""
    lines: set[int] = set()
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.FunctionDef):
            for statement in node.body:
                lines.update(range(statement.lineno, (statement.end_lineno or statement.lineno) + 1))
    return lines


def places() -> list[Place]:
    """The places to change, by the fixed seed; one change at each."""
    rng = random.Random(SEED)
    found: dict[tuple[str, int, int], list[Place]] = {}
    names = [name for name in operator_names() if name.startswith(KINDS)]
    for path in sorted((ROOT / "fernfield/core").rglob("*.py")):
        source = path.read_text()
        inside, file = _computing(source), str(path.relative_to(ROOT))
        tree = list(ast_nodes(get_ast(source)))
        for name in names:
            operator, occurrence = get_operator(name)(), 0
            for node in tree:
                for (line, column), _ in operator.mutation_positions(node):
                    if line in inside:
                        found.setdefault((file, line, column), []).append(Place(file, name, occurrence, line, column))
                    occurrence += 1
    chosen = rng.sample(sorted(found), PLACES)
    return [rng.choice(found[key]) for key in chosen]


def _tests_of(copy: Path, file: str) -> list[list[str]]:
    """The tests that name a module, and those of the core and of the room of its name."""
    module = file.removesuffix(".py").replace("/", ".").removesuffix(".__init__")
    name = f"from {module} import"
    parent, _, last = module.rpartition(".")

    def names(row: str) -> bool:
        return name in row or (f"from {parent} import" in row and last in row)

    tests = sorted(test for test in (copy / "tests").rglob("test_*.py") if "browser" not in test.parts)
    near = [str(test) for test in tests if any(names(row) for row in test.read_text().splitlines())]
    room = copy / "tests" / file.split("/")[2]
    far = ["tests/core", *([str(room)] if room.is_dir() and room.name != "core" else [])]
    return [tests for tests in (near, far) if tests]


def _builds_on(copy: Path, file: str) -> set[str]:
    """The names of the modules of the core that import this one, or one that does, and its own."""
    rows = {path.stem: path.read_text() for path in (copy / "fernfield/core").rglob("*.py")}
    names, new = set[str](), {Path(file).stem}
    while new:
        names |= new
        imported = re.compile(rf"^\s*(from|import) .*\b({'|'.join(names)})\b", re.MULTILINE)
        new = {stem for stem, row in rows.items() if imported.search(row)} - names
    return names


def _compiled_for(copy: Path, file: str, folder: Path) -> Path:
    """What is compiled already, in `folder`, but for all that has code of `file` compiled into itself."""
    fresh = folder / "compiled"
    shutil.copytree(_compiled(copy), fresh)
    for name in _builds_on(copy, file):
        for kept in fresh.rglob(f"{name}.*.nb?"):
            kept.unlink()
    return fresh


def _compiled(copy: Path) -> Path:
    return copy.parent / f"compiled-{copy.name}"


def _pytest(copy: Path, compiled: Path, *tests: str) -> int:
    """Runs these tests in `copy`; what pytest returned, or 1 if it would not end."""
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "-m", "not browser", *tests]
    own = {**os.environ, "NUMBA_CACHE_DIR": str(compiled), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        return subprocess.run(
            command, cwd=copy, env=own, check=False, stdout=subprocess.DEVNULL, timeout=LONGEST_S
        ).returncode
    except subprocess.TimeoutExpired:
        return 1


def caught(copy: Path, place: Place) -> bool:
    """Whether a test fails with this change in `copy`."""
    path = copy / place.file
    was, stamp = path.read_text(), path.stat()
    changed = mutate_code(was, get_operator(place.operator)(), place.occurrence)
    assert changed is not None
    assert changed != was
    path.write_text(changed)
    try:
        with tempfile.TemporaryDirectory() as folder:
            compiled = _compiled_for(copy, place.file, Path(folder))
            return any(_pytest(copy, compiled, *tests) not in (0, 5) for tests in _tests_of(copy, place.file))
    finally:
        path.write_text(was)
        os.utime(path, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))


def main() -> int:
    chosen = places()
    copies: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory() as folder:
        for number in range(WORKERS):
            copy = Path(folder) / str(number)
            copy.mkdir()
            for part in ("fernfield", "tests", "docs"):
                shutil.copytree(ROOT / part, copy / part, ignore=shutil.ignore_patterns("__pycache__"))
            shutil.copy(ROOT / "pyproject.toml", copy)
            copies.put(copy)

        # What fails without any change would catch everything; and this compiles, once, what no change touches.
        with ThreadPoolExecutor(WORKERS) as pool:
            tests = [f"tests/{path.name}" for path in sorted((ROOT / "tests").iterdir()) if path.name in TRIED]
            if any(pool.map(lambda copy: _pytest(copy, _compiled(copy), *tests), list(copies.queue))):
                print("The tests fail without any change.")
                return 2

        def tried(place: Place) -> bool:
            copy = copies.get()
            try:
                found = caught(copy, place)
            finally:
                copies.put(copy)
            word = "caught  " if found else "SURVIVED"
            print(f"{word} {place.file}:{place.line}:{place.column} {place.operator}", flush=True)
            return found

        with ThreadPoolExecutor(WORKERS) as pool:
            results = list(pool.map(tried, chosen))
    share = sum(results) / len(results)
    print(f"{sum(results)} of {len(results)} changes were caught ({share:.0%}); at least {LEAST_CAUGHT:.0%} must be")
    return 0 if share >= LEAST_CAUGHT else 1


if __name__ == "__main__":
    sys.exit(main())
