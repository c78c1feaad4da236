"""Contact sheets, and a variant small beside its original: how results show themselves in a notebook."""

from __future__ import annotations

import base64
import html
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from varlen.atomic_files import write_whole
from varlen.datasets.array_checks import in_color
from varlen.datasets.image_files import encode
from varlen.errors import ArrayError
from varlen.kernels.warp_affine import Pixels
from varlen.model.objects import Objects
from varlen.render.contact_sheet import draw_line, drawn_tile, stacked

if TYPE_CHECKING:
    from varlen.arrays.rendered import Rendered


COLUMNS = 5


class Sheet:
    """Tiles in rows. Shows itself in a notebook; pixels: (H, W, 3) uint8; captions: of the tiles, in their order.

    >>> import numpy as np, varlen as v
    >>> sheet = v.sheet(v.Pipeline([v.Flip()]), np.zeros((48, 64, 3), np.uint8), variants=2, tile_px=64)
    >>> sheet.pixels.shape, sheet.captions
    ((64, 224, 3), ['original', '1', '2'])
    """

    def __init__(self, tiles: Sequence[Pixels], captions: Sequence[str], columns: int = COLUMNS) -> None:
        self.tiles, self.captions, self.columns = list(tiles), list(captions), columns

    @property
    def pixels(self) -> NDArray[np.uint8]:
        """The whole sheet, (H, W, 3) uint8."""
        return stacked([self.tiles[place : place + self.columns] for place in range(0, len(self.tiles), self.columns)])

    def save(self, path: Path | str) -> None:
        """Write it as a PNG, or as JPEG or WebP where the name ends so. Raises `ArrayError` for another ending."""
        kinds: dict[str, Any] = {".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg", ".webp": "webp"}
        path = Path(path)
        if path.suffix.lower() not in kinds:
            raise ArrayError(f"{path}: a sheet is saved as .png, .jpg or .webp")
        write_whole(path, encode(self.pixels, kinds[path.suffix.lower()]))

    def __len__(self) -> int:
        return len(self.tiles)

    def __repr__(self) -> str:
        return f"{type(self).__name__}({len(self)} tiles: {', '.join(self.captions[:8])}{' …' if len(self) > 8 else ''})"

    def _repr_html_(self) -> str:
        figures = "".join(
            f'<figure style="margin:4px"><img alt="{html.escape(caption)}" src="{_data_url(tile)}">'
            f'<figcaption style="font-size:12px">{html.escape(caption)}</figcaption></figure>'
            for tile, caption in zip(self.tiles, self.captions, strict=True)
        )
        return f'<div style="display:flex;flex-wrap:wrap">{figures}</div>'

    def _repr_png_(self) -> bytes:
        return encode(self.pixels, "png")


def _data_url(tile: Pixels) -> str:
    return "data:image/png;base64," + base64.b64encode(encode(tile, "png")).decode()


TILE_PX = 240


LOST = (230, 60, 50)


def before_and_after(out: Rendered) -> bytes:
    """The original, its lost objects crossed out, and the variant beside it: a PNG."""
    return Sheet([_original(out, 2 * TILE_PX), _tile(out, 2 * TILE_PX)], ["original", "variant"])._repr_png_()


def clip_strip(frames: Sequence[Rendered]) -> bytes:
    """Up to ten frames of a clip, evenly spaced: a PNG."""
    places = np.unique(np.linspace(0, len(frames) - 1, min(len(frames), 10)).round().astype(int)).tolist()
    return Sheet([_tile(frames[place], TILE_PX) for place in places], [str(place) for place in places])._repr_png_()


def _tile(out: Rendered, width: int) -> Pixels:
    return drawn_tile(out._pictures, in_color(out.image), out._objects, width)


def _original(out: Rendered, width: int) -> Pixels:
    objects = out._pictures.entries[out.key].objects
    tile = drawn_tile(out._pictures, in_color(out._original), objects, width)
    for box in _lost_boxes(out, objects):
        x0, y0, x1, y1 = (value * width / out._original.shape[1] for value in box)
        draw_line(tile, np.array([[x0, y0], [x1, y1]]), LOST, 1.0)
        draw_line(tile, np.array([[x0, y1], [x1, y0]]), LOST, 1.0)
    return tile


def _lost_boxes(out: Rendered, objects: Objects) -> list[list[float]]:
    gone = {outcome.id for outcome in out._state.dropped if outcome.image == out.key}
    return [box for name, box in zip(objects.ids, objects.boxes.tolist(), strict=True) if name in gone]
