"""The demo's covers can be told apart, also by people who do not see all colours."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest

from fernfield.core.sites.teams import SEEN_BY, TOLD_APART, lab_of
from fernfield.demo.kept import BESIDE, ROWS


@pytest.mark.parametrize("who", SEEN_BY)
def test_covers_of_the_demo_are_told_apart(who: str) -> None:
    covers = json.loads((BESIDE / ROWS).read_text(encoding="utf-8"))["rows"]["covers"]
    lab = lab_of([row["colour"] for row in covers.values()], who)
    apart = {
        (one, other): float(np.linalg.norm(lab[i] - lab[j]))
        for (i, one), (j, other) in itertools.combinations(enumerate(covers), 2)
    }
    assert min(apart.values()) > TOLD_APART, min(apart, key=lambda pair: apart[pair])
