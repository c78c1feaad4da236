"""Straight into training: samples as arrays, made when they are asked for.

A source has a length and is read by number, so any loader that works with such sources can
use it, in as many processes as it likes, also in processes that stay alive from epoch to epoch: what
number n gives in epoch e depends on seed, epoch and image alone. Epoch e of the training split gives variant e + 1, the same pixels and
labels that an edition holds under that number; other splits give their original.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any, Literal, cast

import numpy as np
from numpy.typing import NDArray

from varlen.datasets.dataset import Dataset
from varlen.datasets.formats import read_dataset
from varlen.errors import ArrayError, DatasetError, VarlenError
from varlen.pipeline.document import Pipeline, from_json, read
from varlen.pipeline.plan import Plan
from varlen.render.again import carried
from varlen.render.batches import TAKEN, Batch, Batches, Sample, batch
from varlen.render.normalization import WHITE, Figures, LevelRange, given_figures, looked_up, pipeline_figures, share_table
from varlen.render.renderer import OwnRenderer, Renderer, lightness
from varlen.render.shared_epoch import SharedEpoch
from varlen.render.source_pictures import PictureCache
from varlen.shapes.polygons import all_masks

#: Reads a further array of a picture: its key → (H, W) or (H, W, C).
Also = Callable[[str], Any]
#: Decoded pictures are hardly met twice in an epoch: a few for partners will do.
CACHE_BYTES = 64 << 20
#: So many images tell which kinds of labels a dataset has.
LOOKED_AT = 2000


class Samples:
    """One split of a dataset through a pipeline, in one epoch. Can be pickled: every process decodes and draws on its own.

    >>> import varlen as v
    >>> samples = v.stream("moths", v.Pipeline([v.Flip()], seed=20), "validation")
    >>> len(samples), samples[0]["variant"], samples.epoch
    (6, 0, 0)
    """

    def __init__(self, dataset: Dataset, pipeline: Pipeline, split: str, epoch: int, channels: Literal["last", "first"],
                 figures: Figures | None, range: LevelRange = "0-255", also: Mapping[str, Also] | None = None,
                 masks: bool = False) -> None:  # fmt: skip
        self.dataset, self.pipeline, self.split, self.channels, self.range = dataset, pipeline, split, channels, range
        self.also, self.masks = dict(also or {}), masks
        self.keys = dataset.by_split().get(split, [])
        if not self.keys:
            raise DatasetError(f"{dataset.name}: no image is in the split {split!r}; there are {', '.join(dataset.splits())}")
        self.figures = figures
        self._table = figures.table() if figures is not None else share_table() if range == "0-1" else None
        self._kinds: tuple[bool, bool] | None = None
        self._renderer: Renderer | None = None
        self._epoch = SharedEpoch(_checked_epoch(epoch))

    @property
    def epoch(self) -> int:
        """The epoch now: 0, 1, …"""
        return self._epoch.value

    def set_epoch(self, epoch: int) -> None:
        """Other draws for every image of the training split, also in processes that hold a copy of this and stay alive.

        Copies, pickled or forked, share the epoch; streams made by `stream` have each their own. Raises `VarlenError` for a negative number.
        """
        self._epoch.value = _checked_epoch(epoch)

    def batches(self, size: int, *, workers: int = 0, shuffle: bool = False, drop_last: bool = False,
                boxes: Literal["padded", "ragged"] = "padded", ahead: int = 2) -> Batches:  # fmt: skip
        """The samples as batches of `size`, made ahead in `workers` processes, in an order that depends on seed and epoch alone.

        shuffle: another order in every epoch; drop_last: leave out a last batch that is smaller; boxes: as for `batch`; ahead: how many
        batches are made ahead for each worker. Workers live until the result is closed, or until nothing refers to it.

        >>> import varlen as v
        >>> samples = v.stream("moths", v.Pipeline([v.Flip(), v.Resize(width_px=96, height_px=96, fit="letterbox")], seed=20))
        >>> with samples.batches(20, shuffle=True) as batches:
        ...     [len(batch["keys"]) for batch in batches]
        [20, 20, 8]
        """
        return Batches(self, size, workers, shuffle, drop_last, boxes, ahead)

    def __len__(self) -> int:
        return len(self.keys)

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_renderer": None}

    def __getitem__(self, number: int) -> Sample:
        """Sample `number` of the epoch as arrays; see `sample`."""
        if not hasattr(number, "__index__"):
            raise VarlenError("samples: one number at a time, such as samples[0]; for several at once write samples.batches(size)")
        return self.sample(number, self.epoch)

    def sample(self, number: int, epoch: int) -> Sample:
        """Sample `number` of an epoch as arrays.

        image: (H, W, C) or (C, H, W), uint8, or float32 with range="0-1" or when normalised; boxes: (N, 4) float32
        x_min, y_min, x_max, y_max in px; classes: (N,) int64 places in the dataset's classes;
        keypoints: (N, K, 3) float32 x, y, visibility; crowd: (N,) bool; polygons: for each object its
        rings, (P, 2) float32, None without; label_map: (H, W) uint8, only where there is one;
        masks: (N, H, W) bool, of a dataset with instance masks, or with masks=True those of outlines too, nothing set for an object
        without; oriented: (N, 4, 2) float32 corners, of
        a dataset with oriented boxes, NaN for an object without; image_classes: (C,) float32, the share of each image-level class;
        key, variant: what it is; and what was asked for with `also`. Raises `IndexError` for a number that isn't there.
        """
        if not -len(self) <= number < len(self):
            raise IndexError(f"sample {number} of {len(self)}")
        key = self.keys[number]
        variant = epoch + 1 if self.split == "train" else 0
        renderer = self._ready()
        plan = renderer.plan(key, variant)
        pixels = renderer.pixels(plan)
        if plan.gray:
            pixels = lightness(pixels)
        objects = renderer.labels(plan).objects
        classes = renderer.classes(plan)
        sample: Sample = {
            "image": self._arranged(pixels, shared=plan.base is None and not plan.stages),
            "boxes": objects.boxes.astype(np.float32),
            "classes": objects.classes,
            "keypoints": objects.keypoints.astype(np.float32),
            "crowd": objects.crowd,
            "polygons": [None if polygon is None else [ring.astype(np.float32) for part in polygon for ring in (part.outline, *part.holes)]
                         for polygon in objects.polygons],
            "image_classes": np.array([classes.get(name, 0.0) for name in self.dataset.classes], np.float32),
            "key": key,
            "variant": variant,
        }  # fmt: skip
        levels = renderer.label_map(plan)
        if levels is not None:
            sample["label_map"] = levels
        has_masks, has_oriented = self._kinds_of_labels()
        if has_masks or self.masks or any(objects.masks):
            sample["masks"] = all_masks(objects, plan.size, outlines=self.masks)
        if has_oriented or len(objects.oriented.owners):
            sample["oriented"] = np.full((len(objects), 4, 2), np.nan, np.float32)
            sample["oriented"][objects.oriented.owners] = objects.oriented.corners
        for name, reader in self.also.items():
            cast(dict[str, Any], sample)[name] = self._carried(name, reader, plan)
        return sample

    def _carried(self, name: str, reader: Also, plan: Plan) -> NDArray[Any]:
        """An array of the picture, and those of its partners, moved as the picture is."""
        try:
            arrays = {key: np.asarray(reader(key)) for key in (plan.image, *plan.partners())}
            moved = carried(self._ready(), plan, arrays)
        except ArrayError as error:
            raise ArrayError(f"also: {name}: {str(error).removeprefix('again: ')}") from None
        return np.ascontiguousarray(moved.transpose(2, 0, 1)) if moved.ndim == 3 and self.channels == "first" else moved

    def _kinds_of_labels(self) -> tuple[bool, bool]:
        """Whether the dataset has instance masks, and oriented boxes; told by its first images, so that every sample has the same parts."""
        if self._kinds is None:
            first = [self.dataset.entries[key].objects for key in islice(self.dataset.entries, LOOKED_AT)]
            self._kinds = any(any(each.masks) for each in first), any(len(each.oriented.owners) for each in first)
        return self._kinds

    def _ready(self) -> Renderer:
        if self._renderer is None:
            self._renderer = OwnRenderer(self.dataset, self.pipeline, PictureCache(CACHE_BYTES))
        return self._renderer

    def _arranged(self, pixels: NDArray[np.uint8], shared: bool) -> NDArray[Any]:
        """Pixels as they are wanted, in an array of its own. shared: they are the source's, which the renderer keeps."""
        if self._table is not None:
            return looked_up(pixels, self._table, axis=-1 if self.channels == "last" else 0)
        if self.channels == "last":
            return np.array(pixels, order="C") if shared or not (pixels.flags.owndata and pixels.flags.c_contiguous) else pixels
        planes = np.empty((pixels.shape[2], *pixels.shape[:2]), np.uint8)
        for channel, plane in enumerate(planes):
            plane[...] = pixels[:, :, channel]
        return planes


def _checked_epoch(epoch: int) -> int:
    if not isinstance(epoch, (int, np.integer)) or epoch < 0:
        raise VarlenError(f"epoch: {epoch} is below 0" if isinstance(epoch, (int, np.integer)) else f"epoch: expected 0, 1, …, not {epoch!r}")
    return int(epoch)


def stream(dataset: Dataset | Path | str, pipeline: Pipeline | dict[str, Any] | Path | str, split: str = "train", epoch: int = 0, *,
           seed: int | None = None, channels: Literal["last", "first"] = "last", range: LevelRange = "0-255",
           normalized: bool | tuple[Sequence[float], Sequence[float]] | None = None, also: Mapping[str, Also] | None = None,
           masks: bool = False) -> Samples:  # fmt: skip
    """Samples of a split, to be read by number.

    dataset, pipeline: as read already, or where they lie; seed: instead of the pipeline's own; channels: "last" for (H, W, C), "first" for
    (C, H, W); range: "0-255" for uint8 levels, "0-1" for float32 shares of white; normalized: by default the pipeline's `normalize` steps are
    carried out where it has any, and give float32, the same numbers as array exports; True wants one, False leaves them out, and a mean and
    a deviation per channel on the scale of `range` stand instead of them. also: further arrays of each picture, moved by the same draw, such
    as {"depth": read_depth} with read_depth(key) -> (H, W) or (H, W, C) of any number type; samples and batches hold them under their names,
    channels first where pictures have them so. masks: make masks (N, H, W) of outlines too.
    Raises `VarlenError` with one line for what can't be read, `ArrayError` for figures on the other scale.

    >>> import varlen as v
    >>> samples = v.stream("moths", v.Pipeline([v.Flip()], seed=20), channels="first", range="0-1")
    >>> len(samples), samples[0]["image"].shape, samples[0]["image"].dtype
    (48, (3, 720, 960), dtype('float32'))
    """
    found = dataset if isinstance(dataset, Dataset) else read_dataset(dataset)
    chosen = from_json(pipeline) if isinstance(pipeline, dict) else pipeline if isinstance(pipeline, Pipeline) else read(Path(pipeline))
    if seed is not None:
        chosen = chosen.with_seed(seed)
    if channels not in ("last", "first"):
        raise VarlenError(f"channels: {channels!r} is neither 'last' nor 'first'")
    if range not in WHITE:
        raise VarlenError(f"range: {range!r} is neither '0-255' nor '0-1'")
    return Samples(found, chosen, split, epoch, channels, _figures(normalized, found, chosen, range), range, _named(also), masks)


def _named(also: Mapping[str, Also] | None) -> dict[str, Also]:
    """What samples hold besides. Raises `VarlenError` for a name that is taken, and for what can't be called."""
    for name, reader in (also or {}).items():
        if name in TAKEN or not isinstance(name, str):
            raise VarlenError(f"also: samples and batches have {name!r} already; call it otherwise")
        if not callable(reader):
            raise VarlenError(f"also: {name}: expected a function that reads the array of a key, not {type(reader).__name__}")
    return dict(also or {})


def _figures(normalized: Any, dataset: Dataset, pipeline: Pipeline, scale: LevelRange) -> Figures | None:
    """The figures that pixels are shifted and scaled by; None for none. See `stream`."""
    if isinstance(normalized, (tuple, list)):
        return given_figures(normalized, scale)
    if normalized is not None and not isinstance(normalized, bool):
        raise VarlenError(f"normalized: expected True, False or (mean, deviation), not {normalized!r:.60}")
    found = pipeline_figures(pipeline, dataset) if normalized is not False else None
    if normalized and found is None:
        raise VarlenError("normalized: the pipeline has no normalize step; add v.Normalize(), or write normalized=(mean, deviation)")
    if found is not None and scale == "0-1":
        raise VarlenError('range: "0-1" and the pipeline\'s normalize step exclude each other; drop range, or write normalized=False')
    return found


__all__ = ["Batch", "Sample", "Samples", "batch", "stream"]
