"""Reading in a process of its own, with bounded memory and time.

What stands in a file's header does not bound what its decoder takes, and a decoder may crash, or never come back.
There it harms nobody; here it is told in words, and can be stopped at any moment.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import resource
import signal
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

from fernfield.core.errors import Cancelled, FormatError, NoRoom
from fernfield.work.kernel.faults import meaning, noted
from fernfield.work.kernel.windows import Told, quiet

T = TypeVar("T")

SILENT_S = 120.0
"""A reader that has told nothing for so long is ended."""

LOOK_S = 0.2
"""So often it is looked whether to stop."""


def apart(work: partial[T], bound: int, say: Told = quiet, silent_s: float = SILENT_S) -> T:
    """What `work` comes to in another process, where it may take `bound` bytes of memory beside the libraries. It is
    called with what hears how far it is; it and what it gives are handed over, so they must be plain data.

    Raises FormatError for a reading that ends badly, however it does.
    """
    context = multiprocessing.get_context("forkserver")
    # Whoever reads first says what all readers know from their start on: not each has to import it.
    context.set_forkserver_preload([work.func.__module__])
    here, there = context.Pipe()
    reader = context.Process(target=_read, args=(there, work, bound), daemon=True)
    reader.start()
    there.close()
    try:
        found: T = _heard(here, reader, say, silent_s)
        return found
    finally:
        reader.kill()
        reader.join()
        here.close()


def _heard(here: Connection, reader: Any, say: Told, silent_s: float) -> Any:
    """What the reader comes to; `say` hears how far it is, and may raise to stop it."""
    done, words, silent = 0.0, "Reading the file", 0.0
    while True:
        say(done, words)
        if not here.poll(LOOK_S):
            silent += LOOK_S
            if silent > silent_s:
                raise FormatError(f"the file was not read in time: nothing came of it for {silent_s:g} s", "file")
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
            return told
        else:
            raise told


def _how_it_died(code: int | None) -> str:
    if code is not None and code < 0:
        name = signal.Signals(-code).name
        return f"the file is damaged: its reader was ended by it ({name}); save it anew with another program"
    return "the file is damaged: its reader ended without a word; save it anew with another program"


def _read(there: Connection, work: partial[Any], bound: int) -> None:
    """In the other process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    most = memory_taken() + bound
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))

    def step(done: float, words: str) -> None:
        there.send(("step", (done, words)))

    # Whoever asked has gone: nobody is told.
    with contextlib.suppress(BrokenPipeError, ConnectionError):
        try:
            there.send(("read", work(step)))
        except MemoryError:
            words = (
                f"reading the file would take more than {bound >> 20} MiB of memory: is it damaged? If not, save it "
            )
            there.send(("failed", FormatError(f"{words}in tiles, or as fewer triangles", "file")))
        except Exception as error:
            meant = meaning(error)
            if meant is None:
                meant = FormatError(noted(error, "reading a file"), "file")
            there.send(("failed", _plain(meant)))


def _plain(error: Exception) -> Exception:
    """An error that can be sent: its words, and its field."""
    if isinstance(error, FormatError):
        return FormatError(str(error), error.field)
    return error if isinstance(error, Cancelled | NoRoom) else FormatError(str(error), getattr(error, "field", "file"))


def memory_taken() -> int:
    """Memory of this process that counts against RLIMIT_DATA. [bytes]"""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmData"):
            return int(line.split()[1]) << 10
    return 0
