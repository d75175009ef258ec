"""Changes places of the core, one at a time, and sees whether a test notices.

Places are drawn by a fixed seed from what computes: operators, comparisons, numbers and conditions inside the
functions of `fernfield/core` (cosmic-ray finds and makes the changes). Each change is tried in a copy of the project,
first by the tests that name its module, then by all tests of the core and of the room of the same name.
"""

from __future__ import annotations

import ast
import os
import random
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


def caught(copy: Path, place: Place) -> bool:
    """Whether a test fails with this change in `copy`."""
    path = copy / place.file
    was = path.read_text()
    changed = mutate_code(was, get_operator(place.operator)(), place.occurrence)
    assert changed is not None
    assert changed != was
    path.write_text(changed)
    try:
        for tests in _tests_of(copy, place.file):
            # What calls compiled code keeps it compiled in itself: all of that is made anew when such code changes.
            with tempfile.TemporaryDirectory() as fresh:
                cache = fresh if "@kernel" in was else str(copy.parent / f"compiled-{copy.name}")
                command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "-m", "not browser"]
                own = {**os.environ, "NUMBA_CACHE_DIR": cache, "PYTHONDONTWRITEBYTECODE": "1"}
                try:
                    done = subprocess.run(
                        [*command, *tests], cwd=copy, env=own, check=False, capture_output=True, timeout=LONGEST_S
                    )
                except subprocess.TimeoutExpired:
                    return True
                if done.returncode not in (0, 5):
                    return True
        return False
    finally:
        path.write_text(was)


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

        # What fails without any change would catch everything.
        command = [sys.executable, "-m", "pytest", "-x", "-q", "-m", "not browser", "-n", "2", "tests"]
        unchanged = subprocess.run(command, cwd=copy, check=False, capture_output=True, text=True)
        if unchanged.returncode:
            print(unchanged.stdout[-3000:], "The tests fail without any change.", sep="\n")
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
