"""Writes the OpenAPI document of the application, from which the scripts' types of its answers are made."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

from fernfield.web.app import create_app
from fernfield.work.studio import Studio


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder) / "data")
        Path(sys.argv[1]).write_text(json.dumps(create_app(studio).openapi()))
        studio.close()


if __name__ == "__main__":
    main()
