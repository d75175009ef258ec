"""Runs the browser tests ten times over, with every processor kept busy by something else; none may fail.

A test that passes two times in three hides faults. Says how many of the runs passed, and which tests failed.
"""

from __future__ import annotations

import multiprocessing
import os
import re
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.conftest import make_demo

TIMES = int(sys.argv[1]) if len(sys.argv) > 1 else 10


def _busy() -> None:
    """Work that never ends: the scheduler shares the processor between it and the tests."""
    while True:
        sum(i * i for i in range(100_000))


def main() -> int:
    others = [multiprocessing.Process(target=_busy, daemon=True) for _ in range(os.cpu_count() or 2)]
    for other in others:
        other.start()
    failed: Counter[str] = Counter()
    passed, began = 0, time.monotonic()
    command = [sys.executable, "-m", "pytest", "-q", "-m", "browser", "-n", "2", "--dist", "loadfile", "tests"]
    try:
        demo = Path(tempfile.mkdtemp()) / "demo-world"
        make_demo(demo)
        for run in range(1, TIMES + 1):
            own = {**os.environ, "FERN_DEMO": str(demo)}
            said = subprocess.run(command, check=False, capture_output=True, text=True, env=own)
            names = re.findall(r"^(?:FAILED|ERROR) (\S+)", said.stdout, re.MULTILINE)
            failed.update(names)
            passed += said.returncode == 0
            last = said.stdout.strip().splitlines()[-1]
            print(f"run {run} of {TIMES}: {last}", *names, sep="\n  ", flush=True)
            if said.returncode:
                kept = Path(tempfile.gettempdir()) / f"steady-{run}.txt"
                kept.write_text(said.stdout)
                print(f"  all that it said is in {kept}", flush=True)
    finally:
        for other in others:
            other.terminate()
    print(f"{passed} of {TIMES} runs passed in {(time.monotonic() - began) / 60:.0f} min", *failed.items(), sep="\n")
    return 0 if passed == TIMES else 1


if __name__ == "__main__":
    sys.exit(main())
