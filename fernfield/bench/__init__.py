"""`fernfield bench`: how fast, each row beside its yardstick in the same run.

A row times its work and its yardstick in turn, pair by pair, and gives the median of the
ratios: the speed of the machine drops out. The next row is a function in a module beside
this and a line in `ROWS`.
"""

from __future__ import annotations

import platform
import statistics
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from time import perf_counter

import typer

Task = Callable[[], object]


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the table. `aim` is what the ratio should be at most, in words.

    ours, yardstick : medians [s]; ratio : median of the pairs' ratios
    """

    work: str
    against: str
    ours: float
    yardstick: float
    ratio: float
    aim: str


@dataclass(frozen=True, slots=True)
class Plan:
    """How much to measure: runs of each, and the side of the large grid in posts."""

    runs: int
    large: int


def pairs(ours: Task, yardstick: Task, runs: int, inner: int = 1) -> tuple[float, float, float]:
    """Medians of both and of their ratio, over `runs` pairs of `inner` calls each, after one of each unmeasured."""
    ours()
    yardstick()
    a: list[float] = []
    b: list[float] = []
    for _ in range(runs):
        for task, times in ((yardstick, b), (ours, a)):
            begin = perf_counter()
            for _ in range(inner):
                task()
            times.append((perf_counter() - begin) / inner)
    return statistics.median(a), statistics.median(b), statistics.median(x / y for x, y in zip(a, b, strict=True))


def row(work: str, against: str, aim: str, ours: Task, yardstick: Task, runs: int, inner: int = 1) -> Row:
    mine, theirs, ratio = pairs(ours, yardstick, runs, inner)
    return Row(work, against, mine, theirs, ratio, aim)


def _time(seconds: float) -> str:
    for unit, scale in (("s", 1), ("ms", 1e3), ("µs", 1e6)):
        if seconds * scale >= 1 or unit == "µs":
            return f"{seconds * scale:.3g} {unit}"
    return "–"


def run_bench(*, quick: bool, browser: bool) -> None:
    """Measure every row and print the table as it goes."""
    from fernfield.bench import browser as in_browser
    from fernfield.bench import core, covers, growth, handing, light, load, making, sites, size, start, store, water
    from fernfield.work.warm import warm_kernels

    warm_kernels()
    plan = Plan(runs=9, large=1025) if quick else Plan(runs=25, large=4097)
    typer.echo(f"Python {platform.python_version()} on {platform.machine()}; medians of {plan.runs} pairs\n")
    typer.echo("| work | time | against | time | ratio | aim |\n| --- | ---: | --- | ---: | ---: | --- |")
    rows: Iterator[Row]
    for rows in (
        start.rows(plan),
        core.rows(plan),
        covers.rows(plan),
        growth.rows(plan),
        water.rows(plan),
        light.rows(plan),
        sites.rows(plan),
        store.rows(plan),
        making.rows(plan),
        size.rows(plan),
        handing.rows(plan),
        load.rows(plan),
        in_browser.rows(plan) if browser else iter(()),
    ):
        for r in rows:
            typer.echo(f"| {r.work} | {_time(r.ours)} | {r.against} | {_time(r.yardstick)} | {r.ratio:.2f} | {r.aim} |")
