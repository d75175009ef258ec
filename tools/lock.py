"""Writes the two lock files: names and versions, no addresses, from what pip resolves."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import tomllib
import venv
from pathlib import Path

ROOT = Path(__file__).parent.parent


def frozen(requirements: list[str]) -> list[str]:
    """What pip installs for `requirements` into an empty environment."""
    with tempfile.TemporaryDirectory() as folder:
        venv.create(folder, with_pip=True)
        python = f"{folder}/bin/python"
        subprocess.run([python, "-m", "pip", "install", "-q", *requirements], check=True)
        listed = subprocess.run([python, "-m", "pip", "freeze"], check=True, capture_output=True, text=True)
    return [line for line in listed.stdout.splitlines() if "==" in line and " @ " not in line]


def main() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    run = frozen(project["dependencies"])
    dev = frozen([*run, *project["optional-dependencies"]["dev"]])
    (ROOT / "requirements.lock").write_text("\n".join(run) + "\n")
    (ROOT / "requirements-dev.lock").write_text("\n".join(dev) + "\n")


if __name__ == "__main__":
    sys.exit(main())
