"""Ten thousand random edits, undos, jobs, cancels and kills against a plain model of what was acknowledged.

`make soak`, or `soak.py [count] [seed]`. The model is a list: for each revision that was acknowledged, a digest of
the land as it was then. After every kill, and at the end, the server has to have all of it.
"""

from __future__ import annotations

import contextlib
import hashlib
import http.client
import json
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from pathlib import Path
from typing import Any

SIDE = 300


class Lost(AssertionError):
    """Something that was acknowledged is not there."""


class Server:
    """`fernfield serve` in a process of its own, which can be killed."""

    def __init__(self, data: Path) -> None:
        self._data = data
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-u", "-m", "fernfield.cli", "serve", "--port", "0", "--data", str(self._data)]
        self._process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert self._process.stdout is not None
        self.url = next(line.split()[4] for line in self._process.stdout if "http://" in line).rstrip("/")

    def end(self, how: signal.Signals) -> None:
        self._process.send_signal(how)
        self._process.wait(60)
        assert self._process.stdout is not None
        self._process.stdout.close()

    def ask(self, path: str, method: str = "GET", body: Any = None) -> tuple[int, bytes]:
        """Status and answer; raises OSError when nobody answers."""
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.url + path, data, {"content-type": "application/json"}, method=method)
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()


class Soak:
    """The edits, and the model."""

    def __init__(self, server: Server, seed: int) -> None:
        self.server, self.rng = server, random.Random(seed)
        spec = {"name": "Soak", "width_m": SIDE, "depth_m": SIDE, "spacing_m": 1, "elevation_m": 10}
        made = json.loads(server.ask("/api/worlds", "POST", spec)[1])
        self.world, self.tract = f"/api/worlds/{made['id']}", f"/api/tracts/{made['tracts'][0]['id']}"
        self.known: dict[int, str] = {0: self.digest()}
        self.last = 0
        self.counts: Counter[str] = Counter()

    def digest(self, at: int | None = None) -> str:
        """Of the land, as it is or was."""
        query = "" if at is None else f"?at={at}"
        return hashlib.sha256(self.server.ask(f"{self.tract}/heights{query}")[1]).hexdigest()

    def revision(self) -> int:
        return int(json.loads(self.server.ask(self.world)[1])["revision"])

    # Edits

    def edit(self) -> tuple[str, str, str, Any]:
        """What is done next: its sort, method, path and body."""
        rng, spot = self.rng, lambda: round(self.rng.uniform(5, SIDE - 5), 2)
        sort = rng.choices(
            ("stroke", "undo", "redo", "reset", "thing", "sea", "move", "sheet", "weather", "generate", "nonsense"),
            (40, 14, 8, 6, 10, 3, 3, 4, 3, 1, 4),
        )[0]
        x, y = spot(), spot()
        box = [min(x, SIDE - 60), min(y, SIDE - 60), min(x, SIDE - 60) + 50, min(y, SIDE - 60) + 50]
        match sort:
            case "stroke":
                tool = rng.choice(("raise", "lower", "smooth", "flatten", "roughen", "paint", "sow"))
                more = {"paint": {"cover": "earth"}, "sow": {"mix": "mix"}}.get(tool, {})
                body = {
                    "tool": tool, "radius_m": rng.choice((5, 20, 60)), "softness": 0.5, "strength": 20,
                    "path": [[x, y, 0], [spot(), spot(), rng.uniform(0.1, 1)]], **more,
                }  # fmt: skip
                return sort, "POST", f"{self.tract}/strokes", body
            case "undo" | "redo":
                return sort, "POST", f"{self.world}/{sort}", None
            case "reset":
                return sort, "POST", f"{self.tract}/reset", {"to": "elevation", "elevation_m": spot() / 10, "box": box}
            case "thing":
                key = f"k{rng.randrange(9)}"
                if rng.random() < 0.3:
                    return sort, "DELETE", f"{self.world}/things/{key}", None
                return sort, "PUT", f"{self.world}/things/{key}", {"sort": "start", "name": key, "x": x, "y": y}
            case "sea":
                return sort, "PATCH", f"{self.world}/water", {"sea_level_m": round(rng.uniform(-5, 5), 2)}
            case "move":
                to = {"x": spot(), "y": spot(), "turn_deg": rng.choice((0, 90))}
                return sort, "POST", f"{self.tract}/move", {"box": box, **to}
            case "sheet":
                key = f"s{rng.randrange(3)}"
                return sort, "PUT", f"{self.world}/sheets/{key}", {"name": key, "weight": round(rng.random(), 2)}
            case "weather":
                frost = {"kind": "frost", "passes": rng.randrange(1, 40), "repose_deg": 20}
                return sort, "POST", f"{self.tract}/weather", frost
            case "generate":
                made = {"seed": rng.randrange(999), "landscapes": [{"name": "downs", "patch_m": 150}], "box": box}
                return sort, "POST", f"{self.tract}/generate", made
            case _:
                return sort, "POST", f"{self.tract}/strokes", {"tool": "raise", "radius_m": -1, "path": []}

    def step(self) -> None:
        """One edit that is waited for."""
        sort, method, path, body = self.edit()
        status, answer = self.server.ask(path, method, body)
        if status >= 500:
            raise Lost(f"{method} {path} {body}: {status} {answer[:300]!r}")
        if sort == "nonsense" and status < 400:
            raise Lost(f"{method} {path} {body} was taken")
        if status == 202:
            self._job(json.loads(answer)["job"])
        self.counts[f"{sort} {'kept' if status < 400 else 'refused'}"] += 1
        self.note()

    def _job(self, job: str) -> None:
        if self.rng.random() < 0.4:
            time.sleep(self.rng.uniform(0, 0.3))
            self.server.ask(f"/api/jobs/{job}", "DELETE")
        while True:
            found = json.loads(self.server.ask(f"/api/jobs/{job}")[1])
            if found["state"] not in ("queued", "running"):
                if "our side" in found["message"]:
                    raise Lost(found["message"])
                self.counts[f"job {found['state']}"] += 1
                return
            time.sleep(0.01)

    def note(self) -> None:
        """What is acknowledged from now on."""
        now = self.revision()
        if now < self.last:
            raise Lost(f"r{self.last} was acknowledged; the world is at r{now}")
        self.last, self.known[now] = now, self.digest()

    # Kills

    def killed(self) -> None:
        """An edit, and a kill at any moment of it: the world is as before, or as after; all that was acknowledged is
        there."""
        _, method, path, body = self.edit()

        def ask() -> None:
            # Whoever asks when the server dies gets no answer.
            with contextlib.suppress(OSError, ValueError, http.client.HTTPException):
                self.server.ask(path, method, body)

        asking = threading.Thread(target=ask)
        asking.start()
        time.sleep(self.rng.uniform(0, self.rng.choice((0.01, 0.05, 0.2, 0.5))))
        self.server.end(signal.SIGKILL)
        asking.join()
        self.server.start()
        now = self.revision()
        if now not in (self.last, self.last + 1):
            raise Lost(f"r{self.last} was acknowledged; after a kill the world is at r{now}")
        if now == self.last and self.digest() != self.known[self.last]:
            raise Lost(f"r{now} is not as it was acknowledged")
        self.counts["kill"] += 1
        self.counts["kill, the edit was kept"] += now != self.last
        self.note()
        self.past()

    def past(self) -> None:
        """Some earlier states are as they were acknowledged."""
        for number in self.rng.sample(sorted(self.known), min(3, len(self.known))):
            if self.digest(number) != self.known[number]:
                raise Lost(f"r{number} is not as it was acknowledged")
            self.counts["earlier state looked at"] += 1

    def back_to_the_beginning(self) -> None:
        """Everything is undone: the land is as it was made."""
        steps = 0
        while self.server.ask(f"{self.world}/undo", "POST")[0] < 400:
            steps += 1
        self.counts["undone at the end"] = steps
        if self.digest() != self.known[0]:
            raise Lost("with everything undone the land is not as it was made")


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 20_261_126
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder))
        try:
            soak = Soak(server, seed)
            for number in range(count):
                if soak.rng.random() < 1 / 80:
                    soak.killed()
                else:
                    soak.step()
                if number % 500 == 499:
                    print(f"{number + 1} of {count}: r{soak.last}, {time.monotonic() - began:.0f} s", flush=True)
            soak.past()
            soak.back_to_the_beginning()
            server.end(signal.SIGTERM)
            server.start()
            soak.past()
        finally:
            server.end(signal.SIGTERM)
    print(f"seed {seed}: nothing was lost in {time.monotonic() - began:.0f} s")
    for what, times in sorted(soak.counts.items()):
        print(f"  {what}: {times}")


if __name__ == "__main__":
    main()
