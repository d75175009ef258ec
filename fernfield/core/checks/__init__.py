"""The checks, in one list: the next one is a function in a module beside this and a line here."""

from __future__ import annotations

from fernfield.core.checks.finding import Finding, Survey
from fernfield.core.checks.ground import bare_openings, lopsided
from fernfield.core.checks.joins import open_joins
from fernfield.core.checks.starts import default_start, drowned_starts, steep_starts

CHECKS = (default_start, drowned_starts, steep_starts, bare_openings, lopsided, open_joins)


def run_checks(survey: Survey) -> list[Finding]:
    """Every finding of every check, grave ones first."""
    found = [finding for check in CHECKS for finding in check(survey)]
    return sorted(found, key=lambda finding: not finding.grave)
