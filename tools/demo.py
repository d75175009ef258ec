"""Makes Sallow Reach by its commands, and keeps what comes of it beside the code."""

from __future__ import annotations

import tempfile
from pathlib import Path

from fernfield.demo.kept import keep
from fernfield.demo.reach import make_reach
from fernfield.work.studio import Studio


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder))
        try:
            keep(studio, studio.world(make_reach(studio, lambda share, words: print(f"{share:.0%} {words}"))))
        finally:
            studio.close()


if __name__ == "__main__":
    main()
