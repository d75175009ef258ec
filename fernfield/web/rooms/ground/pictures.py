"""Grey pictures for tips and imprints: six of our own, and the user's."""

from __future__ import annotations

import io
import secrets
from typing import Annotated, NotRequired

import numpy as np
from fastapi import File, Form, Response, UploadFile
from PIL import Image
from typing_extensions import TypedDict

from fernfield.core.brush.tips import TIPS
from fernfield.web.kernel.parts import TheStudio, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.uploads import Named, upload
from fernfield.work.ground.pictures import add_picture

router = Router(prefix="/api/worlds/{world}/pictures", tags=["pictures"])


class PictureTold(TypedDict):
    """A grey picture, and how many pixels one that was brought has."""

    key: str
    name: str
    ours: NotRequired[bool]
    rows: NotRequired[int]
    cols: NotRequired[int]


@router.get("")
def pictures(world: TheWorld, studio: TheStudio) -> list[PictureTold]:
    own: list[PictureTold] = [{"key": key, "name": name, "ours": True} for key, (name, _) in TIPS.items()]
    brought: list[PictureTold] = [
        {"key": p.key, "name": p.name, "ours": False, "rows": p.rows, "cols": p.cols}
        for p in studio.store.pictures(world.id)
    ]
    return own + brought


@router.post("", status_code=201)
def add(
    world: TheWorld, studio: TheStudio, file: Annotated[UploadFile, File()], name: Annotated[str, Form()]
) -> PictureTold:
    """A greyscale PNG of 8 or 16 bits, 2 to 2,048 pixels a side; black is 0, white is 1."""
    named = Named(name=name)
    with upload(studio, file) as path:
        picture = add_picture(studio.store, world.id, "p" + secrets.token_hex(4), named.name, path.read_bytes())
    return {"key": picture.key, "name": picture.name, "rows": picture.rows, "cols": picture.cols}


@router.get("/{key}.png", response_class=Response)
def picture_png(key: str, world: TheWorld) -> Response:
    """A picture as 8-bit greyscale PNG, as the page shows it."""
    grey = np.rint(world.picture(key) * 255).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(grey).save(out, "PNG")
    return Response(out.getvalue(), media_type="image/png")
