"""Small sound elevation files of every kind that is read, made by code, and ways to damage them."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import tifffile
import trimesh
from PIL import Image

from fernfield.formats.source import Said

SIDE = 24


def _land() -> np.ndarray:
    y, x = np.mgrid[0:SIDE, 0 : SIDE + 6]
    return (20 + 8 * np.sin(x / 5) + 6 * np.cos(y / 4)).astype(np.float32)


def _tiff(values: np.ndarray, **how: Any) -> bytes:
    out = io.BytesIO()
    tifffile.imwrite(out, values, **how)
    return out.getvalue()


def _png(values: np.ndarray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(values).save(out, "PNG")
    return out.getvalue()


def _npy(values: np.ndarray) -> bytes:
    out = io.BytesIO()
    np.save(out, values)
    return out.getvalue()


def _surface(kind: str) -> bytes:
    land = _land()[::3, ::3]
    rows, cols = land.shape
    y, x = np.mgrid[0:rows, 0:cols]
    points = np.column_stack([x.ravel(), land.ravel(), y.ravel()])
    a = (y[:-1, :-1] * cols + x[:-1, :-1]).ravel()
    faces = np.concatenate([np.column_stack([a, a + 1, a + cols]), np.column_stack([a + 1, a + cols + 1, a + cols])])
    made = trimesh.Trimesh(points, faces, process=False).export(file_type=kind)
    if isinstance(made, dict):
        made = trimesh.exchange.gltf.export_gltf(
            trimesh.Scene([trimesh.Trimesh(points, faces, process=False)]), embed_buffers=True
        )["model.gltf"]
    return made.encode() if isinstance(made, str) else bytes(made)


def _asc() -> bytes:
    land = _land()
    head = f"ncols {land.shape[1]}\nnrows {SIDE}\nxllcorner 0\nyllcorner 0\ncellsize 2\nNODATA_value -9999\n"
    return (head + "\n".join(" ".join(f"{v:.2f}" for v in row) for row in land)).encode()


def corpus() -> dict[str, tuple[bytes, Said]]:
    """Every kind: its bytes, and what is said of it."""
    land = _land()
    whole = (land * 1000).astype(np.uint16)
    scale = [(33550, "d", 3, (2.0, 2.0, 0.0), True), (33922, "d", 6, (0.0, 0.0, 0.0, 500.0, 900.0, 0.0), True)]
    tiles: dict[str, Any] = {"tile": (16, 16)}
    said = Said()
    return {
        "png 8": (_png((land * 4).astype(np.uint8)), said),
        "png 16": (_png(whole), said),
        "tiff": (_tiff(land), said),
        "geotiff": (_tiff(land, extratags=scale), said),
        "tiff deflate": (_tiff(land, compression="zlib", predictor=True, **tiles), said),
        "tiff lzw": (_tiff(whole, compression="lzw", rowsperstrip=5), said),
        "tiff zstd": (_tiff(land, compression="zstd", **tiles), said),
        "tiff packbits": (_tiff(whole.astype(np.uint8), compression="packbits", rowsperstrip=4), said),
        "tiff lerc": (_tiff(land, compression="lerc", rowsperstrip=8), said),
        "tiff jpeg 2000": (_tiff(whole, compression="jpeg2000", **tiles), said),
        "tiff lzma": (_tiff(land, compression="lzma", rowsperstrip=8), said),
        "asc": (_asc(), said),
        "npy": (_npy(land), said),
        "npy whole": (_npy(whole), said),
        "raw": (whole.tobytes(), Said("raw", SIDE, SIDE + 6, "u16")),
        "obj": (_surface("obj"), said),
        "glb": (_surface("glb"), said),
        "gltf": (_surface("gltf"), said),
    }


def damaged(body: bytes, rng: np.random.Generator) -> bytes:
    """Bytes changed, doubled, taken out, moved or cut off; numbers made very large or very small."""
    out = bytearray(body)
    for _ in range(int(rng.integers(1, 6))):
        if not out:
            break
        at = int(rng.integers(0, len(out)) if rng.random() < 0.5 else rng.integers(0, min(len(out), 200)))
        size = int(rng.integers(1, 9))
        match int(rng.integers(0, 7)):
            case 0:
                out[at] ^= 1 << int(rng.integers(0, 8))
            case 1:
                out[at : at + size] = rng.integers(0, 256, size, dtype=np.uint8).tobytes()
            case 2:
                del out[at : at + size * int(rng.integers(1, 40))]
            case 3:
                out[at:at] = out[at : at + size * int(rng.integers(1, 40))]
            case 4:
                big = [0, 1, 0x7F, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF][int(rng.integers(0, 8))]
                out[at : at + 4] = big.to_bytes(4, "little" if rng.random() < 0.5 else "big")
            case 5:
                words = [b"1e308", b"-1e308", b"1e-300", b"nan", b"inf", b"null", b"0", b"99999999", b"[", b"{"]
                out[at : at + size] = words[int(rng.integers(0, len(words)))]
            case _:
                del out[max(1, at) :]
    return bytes(out)
