"""A world handed over if nothing grave is found: `python docs/examples/nightly.py URL WORLD FILE.zip`; 1 if not."""

import sys
from pathlib import Path

from fernfield.client import Client


def run(client: Client, name: str, to: Path) -> int:
    """The exit status."""
    world = client.world(name)
    grave = [one for one in world.findings(weight="grave") if one["accepted"] is None]
    for one in grave:
        print(f"{one['stage']}: {one['words']} {one['remedy']}")
    if grave:
        return 1
    world.deliver(to, hear=lambda share, words: print(f"{share:4.0%} {words}"))
    print(f"{to} holds {world.name} as of r{world.revision}: {to.stat().st_size >> 10} KiB")
    return 0


if __name__ == "__main__":
    with Client(sys.argv[1]) as client:
        sys.exit(run(client, sys.argv[2], Path(sys.argv[3])))
