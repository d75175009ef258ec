"""Elevation files in: the list of formats, and the one call that opens any of them.

The next format is a module with an opener and a line in `READERS`.
"""

from __future__ import annotations

from pathlib import Path

from fernfield.core.errors import FormatError
from fernfield.formats import asc, mesh, npy, png, raw, tiff
from fernfield.formats.source import Reader, Said, Source

READERS = (
    Reader("png", "PNG, 8- or 16-bit grey", png.looks_like_png, png.open_png),
    Reader("tiff", "TIFF or GeoTIFF", tiff.looks_like_tiff, tiff.open_tiff),
    Reader("asc", "ESRI ASCII grid", asc.looks_like_asc, asc.open_asc),
    Reader("npy", "NumPy array", npy.looks_like_npy, npy.open_npy),
    Reader("gltf", "glTF surface", mesh.looks_like_gltf, mesh.open_gltf),
    Reader("obj", "Wavefront OBJ surface", mesh.looks_like_obj, mesh.open_obj),
    Reader("raw", "raw samples", raw.never, raw.open_raw),
)

FORMATS = tuple(reader.name for reader in READERS)


def open_source(path: Path, said: Said) -> Source:
    """Look into an elevation file; its content, not its name, says what it is, unless `said.format` does.

    Raises FormatError when it is none of the known formats, not what it is said to be,
    damaged, too large, or when something is missing that the format does not say.
    """
    with path.open("rb") as file:
        head = file.read(4096)
    if not head:
        raise FormatError("the file is empty", "file")
    if said.format is not None and said.format not in FORMATS:
        raise FormatError(f"format must be one of {', '.join(FORMATS)}, not {said.format!r}", "format")
    for reader in READERS:
        if said.format == reader.name and reader.name != "raw" and not reader.looks_like(head):
            raise FormatError(f"the file is said to be {reader.words}, but begins with {head[:8]!r}", "format")
        if said.format == reader.name or (said.format is None and reader.looks_like(head)):
            return reader.open(path, said)
    names = ", ".join(reader.words for reader in READERS)
    raise FormatError(f"the file must be one of: {names}; it begins with {head[:8]!r}", "file")
