"""The checks, in one list: the next one is a function in a module beside this and a line here."""

from __future__ import annotations

from collections.abc import Sequence

from fernfield.core.checks.finding import Finding, Standing
from fernfield.core.checks.starts import default_start, drowned_starts, steep_starts

CHECKS = (default_start, drowned_starts, steep_starts)


def run_checks(things: Sequence[Standing]) -> list[Finding]:
    """Every finding of every check, grave ones first."""
    found = [finding for check in CHECKS for finding in check(things)]
    return sorted(found, key=lambda finding: not finding.grave)
