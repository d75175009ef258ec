"""Reading a file that comes in, in a process of its own: see `kernel.apart`."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from fernfield.formats.source import Said, read_before
from fernfield.work.kernel.apart import apart
from fernfield.work.kernel.windows import Told, quiet
from fernfield.work.worlds.intake import Samples, read_samples

MEMORY = 512 << 20
TIMES = 4
"""What reading may take beside the libraries: so much, and so many times the size of the file. [bytes]"""


def read_apart(path: Path, said: Said, to: Path, say: Told = quiet) -> Samples:
    """As `read_samples`, elsewhere. Raises FormatError for a file whose reading ends badly, however it does."""
    try:
        return apart(partial(_samples, path, said, to), MEMORY + TIMES * path.stat().st_size, say)
    except BaseException:
        to.unlink(missing_ok=True)
        raise


def _samples(path: Path, said: Said, to: Path, say: Told) -> Samples:
    samples = read_samples(path, said, to, say)
    return replace(samples, source=replace(samples.source, bands=read_before))
