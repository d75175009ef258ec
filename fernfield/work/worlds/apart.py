"""Reading a file in a process of its own, with bounded memory and time.

What stands in a file's header does not bound what its decoder takes, and a decoder may crash, or never come back.
There it harms nobody; here it is told in words, and can be stopped at any moment.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import resource
import signal
from dataclasses import replace
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from fernfield.core.errors import Cancelled, FormatError, NoRoom
from fernfield.formats.source import Said, read_before
from fernfield.work.kernel.faults import meaning, noted
from fernfield.work.kernel.windows import Told, quiet
from fernfield.work.worlds.intake import Samples, read_samples

MEMORY = 512 << 20
TIMES = 4
"""What reading may take beside the libraries: so much, and so many times the size of the file. [bytes]"""

SILENT_S = 120.0
"""A reader that has told nothing for so long is ended."""

LOOK_S = 0.2
"""So often it is looked whether to stop."""


def read_apart(path: Path, said: Said, to: Path, say: Told = quiet) -> Samples:
    """As `read_samples`, elsewhere. Raises FormatError for a file whose reading ends badly, however it does."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["fernfield.work.worlds.apart"])
    here, there = context.Pipe()
    bound = MEMORY + TIMES * path.stat().st_size
    reader = context.Process(target=_read, args=(there, path, said, to, bound), daemon=True)
    reader.start()
    there.close()
    try:
        return _heard(here, reader, say)
    except BaseException:
        to.unlink(missing_ok=True)
        raise
    finally:
        reader.kill()
        reader.join()
        here.close()


def _heard(here: Connection, reader: Any, say: Told) -> Samples:
    """What the reader comes to; `say` hears how far it is, and may raise to stop it."""
    done, words, silent = 0.0, "Reading the file", 0.0
    while True:
        say(done, words)
        if not here.poll(LOOK_S):
            silent += LOOK_S
            if silent > SILENT_S:
                raise FormatError(f"the file was not read in time: nothing came of it for {SILENT_S:g} s", "file")
            continue
        silent = 0.0
        try:
            sort, told = here.recv()
        except EOFError:
            reader.join(5)
            raise FormatError(_how_it_died(reader.exitcode), "file") from None
        if sort == "step":
            done, words = told
        elif sort == "read":
            found: Samples = told
            return found
        else:
            raise told


def _how_it_died(code: int | None) -> str:
    if code is not None and code < 0:
        name = signal.Signals(-code).name
        return f"the file is damaged: its reader was ended by it ({name}); save it anew with another program"
    return "the file is damaged: its reader ended without a word; save it anew with another program"


def _read(there: Connection, path: Path, said: Said, to: Path, bound: int) -> None:
    """In the other process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    most = _data() + bound
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))

    def step(done: float, words: str) -> None:
        there.send(("step", (done, words)))

    # Whoever asked has gone: nobody is told.
    with contextlib.suppress(BrokenPipeError, ConnectionError):
        try:
            samples = read_samples(path, said, to, step)
            there.send(("read", replace(samples, source=replace(samples.source, bands=read_before))))
        except MemoryError:
            words = (
                f"reading the file would take more than {bound >> 20} MiB of memory: is it damaged? If not, save it "
            )
            there.send(("failed", FormatError(f"{words}in tiles, or as fewer triangles", "file")))
        except Exception as error:
            meant = meaning(error)
            if meant is None:
                meant = FormatError(noted(error, f"reading {path.name}"), "file")
            there.send(("failed", _plain(meant)))


def _plain(error: Exception) -> Exception:
    """An error that can be sent: its words, and its field."""
    if isinstance(error, FormatError):
        return FormatError(str(error), error.field)
    return error if isinstance(error, Cancelled | NoRoom) else FormatError(str(error), getattr(error, "field", "file"))


def _data() -> int:
    """Memory of this process that counts against RLIMIT_DATA. [bytes]"""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmData"):
            return int(line.split()[1]) << 10
    return 0
