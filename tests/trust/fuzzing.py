"""Reads damaged files for so many seconds, with bounded memory: `fuzzing.py SEED SECONDS`. Prints what came of it."""

from __future__ import annotations

import json
import resource
import sys
import tempfile
import time
import warnings
from collections import Counter
from pathlib import Path

import numpy as np

from fernfield.core.errors import FernError
from fernfield.work.kernel.apart import memory_taken
from fernfield.work.worlds.intake import Placing, heights_of, read_samples
from tests.trust.corpus import corpus, damaged

MEMORY = 512 << 20


def main() -> None:
    seed, seconds = int(sys.argv[1]), float(sys.argv[2])
    warnings.simplefilter("ignore")
    kinds = corpus()
    placing = Placing(spacing_m=1, lowest_m=0, highest_m=50, fill="around")
    counts: Counter[str] = Counter()
    faults: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        path, to = Path(folder) / "file", Path(folder) / "samples"

        def read(body: bytes, said: object) -> str:
            path.write_bytes(body)
            try:
                samples = read_samples(path, said, to)  # type: ignore[arg-type]
                if samples.source.rows * samples.source.cols < 1 << 20:
                    with heights_of(samples, placing):
                        pass
            except FernError as error:
                return "refused" if str(error) else "refused without a word"
            except MemoryError:
                return "too large"
            finally:
                to.unlink(missing_ok=True)
            return "read"

        for name, (body, said) in kinds.items():
            assert read(body, said) == "read", name
        most = memory_taken() + MEMORY
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        end, number = time.monotonic() + seconds, 0
        while time.monotonic() < end and len(faults) < 5:
            name = list(kinds)[number % len(kinds)]
            body, said = kinds[name]
            try:
                counts[read(damaged(body, np.random.default_rng([seed, number])), said)] += 1
            except Exception as error:
                faults.append(f"{name}, number {number}: {type(error).__name__}: {error}")
            number += 1
    sys.stdout.write(json.dumps({"seed": seed, "files": number, "came to": counts, "faults": faults}))


if __name__ == "__main__":
    main()
