"""How soon the application is there: imports, the application, the server, and a world opened again.

Each beside the same for an empty FastAPI application, or an empty page.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path

from fernfield.bench import Plan, Row, row

EMPTY = """
import sys, fastapi, uvicorn
app = fastapi.FastAPI()
@app.get("/healthz")
def health(): return {}
"""
IMPORT_OURS = "import fernfield.web.app"
SERVE_EMPTY = f"{EMPTY}\nuvicorn.run(app, port=0)"


def rows(plan: Plan) -> Iterator[Row]:
    runs = min(plan.runs, 9)
    yield row(
        "import of the web application", "of an empty FastAPI application", "1.5 s",
        lambda: _python(IMPORT_OURS), lambda: _python(EMPTY), runs,
    )  # fmt: skip
    yield from _made(runs)
    with tempfile.TemporaryDirectory() as folder:
        data = Path(folder) / "data"
        _made_once(data)
        ours = [sys.executable, "-u", "-m", "fernfield.cli", "serve", "--port", "0", "--data", str(data)]
        empty = [sys.executable, "-u", "-c", SERVE_EMPTY]
        yield row(
            "`fernfield serve` on a folder, to its first answer", "empty application under uvicorn", "2.5 s",
            _served(ours), _served(empty), runs,
        )  # fmt: skip


def _python(script: str) -> None:
    subprocess.run([sys.executable, "-c", script], check=True, capture_output=True)


def _made(runs: int) -> Iterator[Row]:
    from fastapi import FastAPI

    from fernfield.web.app import create_app
    from fernfield.work.studio import Studio

    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder) / "data")
        yield row(
            "`create_app`, the second of a process", "`FastAPI()`", "0.3 s",
            lambda: create_app(studio), FastAPI, runs,
        )  # fmt: skip
        studio.close()


def _made_once(data: Path) -> None:
    """A data folder with a world in it."""
    from fernfield.work.studio import Studio
    from fernfield.work.worlds.beginnings import WorldSpec

    studio = Studio(data)
    studio.create(WorldSpec(name="Here", width_m=512, depth_m=512, spacing_m=1, elevation_m=5, sea_level_m=0))
    studio.close()


def _served(command: list[str]) -> Callable[[], None]:
    """Starts a server, asks it as soon as it says its address, and stops it."""

    def served() -> None:
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True) as process:
            assert process.stdout is not None
            said = (re.search(r"http://127\.0\.0\.1:\d+", line) for line in process.stdout)
            url = next(found[0] for found in said if found)
            with urllib.request.urlopen(f"{url}/healthz", timeout=60) as answer:
                answer.read()
            process.kill()

    return served
