"""Rendering a picture, or the frames of a clip with one draw."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from varlen.arrays.one_picture import NO_LABELS, NotRead, Pictures, Source, array_renderer, one_picture
from varlen.arrays.rendered import Loss, MovedLabels, Rendered
from varlen.datasets.array_checks import picture_size
from varlen.datasets.array_labels import Labels
from varlen.datasets.dataset import Dataset
from varlen.datasets.given_pictures import given_picture
from varlen.errors import ArrayError
from varlen.kernels.pixel_digest import pixel_digest
from varlen.pipeline.document import Pipeline
from varlen.pipeline.draw_sources import ClipDraws, Draws
from varlen.pipeline.plan import Plan
from varlen.pipeline.reading import MOST_SEED
from varlen.pipeline.trace import Trace
from varlen.render.planner import plan_variant


def render_picture(pipeline: Pipeline, image: Any, labels: Labels | None, key: str, variant: int, split: str,
                   partners: Any = (), group: str = "", draws: Draws | None = None) -> Rendered:  # fmt: skip
    """See `varlen.arrays.pipeline.Pipeline.render`. draws: instead of those of the seed."""
    picture = given_picture(image)
    key = key if key != "" else pixel_digest(picture)
    pictures, plan = planned(pipeline, picture, labels, key, variant, split, partners, group, draws)
    renderer = array_renderer(pipeline, pictures)
    return Rendered(renderer, plan, renderer.labels(plan), labels or NO_LABELS, int(variant), picture)


def move_labels(pipeline: Pipeline, labels: Labels, size: Any, key: str, variant: int, split: str) -> Rendered:
    """See `varlen.arrays.pipeline.Pipeline.move_labels`."""
    if not isinstance(key, str) or not key:
        raise ArrayError("move_labels: draws depend on the picture's key; write move_labels(labels, size=(width, height), key=…)")
    width, height = picture_size(size)
    blank = np.broadcast_to(np.zeros(3, np.uint8), (height, width, 3))
    pictures, plan = planned(pipeline, blank, labels, key, variant, split, (), "", None)
    renderer = array_renderer(pipeline, pictures)
    return MovedLabels(renderer, plan, renderer.labels(plan), labels, int(variant), blank)


def planned(pipeline: Pipeline, image: NDArray[np.uint8], labels: Labels | None, key: str, variant: int, split: str, partners: Any, group: str,
            draws: Draws | None) -> tuple[Pictures, Plan]:  # fmt: skip
    """A picture with the partners that its variant shows, and the plan of it. Of a dataset or a mapping, only those are read that were drawn."""
    if not isinstance(variant, (int, np.integer)) or isinstance(variant, bool) or not 0 <= variant <= MOST_SEED:
        raise ArrayError(f"variant: expected a whole number from 0, not {variant!r}")
    if not isinstance(partners, (Mapping, Dataset)):
        pictures = one_picture(pipeline, image, labels, key, split, partners, group)
        return pictures, plan_variant(pipeline, pictures, key, split, int(variant), draws)
    source = Source(partners)
    read: list[tuple[str, Any, Labels]] = []
    ring = source.ring(split, key, pipeline.draw_per == "group")
    while True:
        pictures = one_picture(pipeline, image, labels, key, split, read, group, ring)
        try:
            return pictures, plan_variant(pipeline, pictures, key, split, int(variant), draws)
        except NotRead as missing:
            read.append(source.read(missing.key))


class RenderedClip(Sequence[Rendered]):
    """One variant of a clip: a `Rendered` for each frame, and all of them together. Made by `Pipeline.render`.

    Lists hold one thing for each frame. Only frames hold what else there is, such as `clip[0].masks`.

    >>> import numpy as np, varlen as v
    >>> clip = v.Pipeline([v.Rotate()]).render([np.zeros((48, 64, 3), np.uint8)] * 4)
    >>> clip, clip.image.shape, clip[1:].image.shape
    (RenderedClip(4 frames of 64×48 px), (4, 48, 64, 3), (3, 48, 64, 3))
    """

    def __init__(self, frames: Sequence[Rendered]) -> None:
        self.frames = tuple(frames)

    def __len__(self) -> int:
        return len(self.frames)

    @overload
    def __getitem__(self, place: int) -> Rendered: ...
    @overload
    def __getitem__(self, place: slice) -> RenderedClip: ...
    def __getitem__(self, place: int | slice) -> Rendered | RenderedClip:
        """A frame, or a part of the clip."""
        return RenderedClip(self.frames[place]) if isinstance(place, slice) else self.frames[place]

    def __iter__(self) -> Iterator[Rendered]:
        return iter(self.frames)

    @property
    def image(self) -> NDArray[np.uint8]:
        """All frames, (T, H, W, C) uint8."""
        return np.stack([frame.image for frame in self.frames])

    @property
    def boxes(self) -> list[NDArray[np.float64] | None]:
        """The boxes of each frame."""
        return [frame.boxes for frame in self.frames]

    @property
    def classes(self) -> list[Any]:
        """The classes of each frame."""
        return [frame.classes for frame in self.frames]

    @property
    def labels(self) -> list[Labels]:
        """All labels of each frame."""
        return [frame.labels for frame in self.frames]

    @property
    def kept(self) -> list[NDArray[np.int64]]:
        """For each frame the places of its objects in what went in."""
        return [frame.kept for frame in self.frames]

    @property
    def lost(self) -> list[list[Loss]]:
        """The objects that each frame lost."""
        return [frame.lost for frame in self.frames]

    @property
    def trace(self) -> list[Trace]:
        """The trace of each frame."""
        return [frame.trace for frame in self.frames]

    def again(self, array: Any, fill: float = 0, nearest: bool = False) -> NDArray[Any]:
        """The same geometry on another clip: (T, H, W) or (T, H, W, C), or a list of frames; see `Rendered.again`."""
        if len(array) != len(self):
            raise ArrayError(f"again: {len(array)} frames for a clip of {len(self)}")
        return np.stack([frame.again(each, fill, nearest) for frame, each in zip(self.frames, array, strict=True)])

    def __repr__(self) -> str:
        return f"RenderedClip({len(self)} frames of {self.frames[0].size.width}×{self.frames[0].size.height} px)"

    def _repr_png_(self) -> bytes:
        from varlen.arrays.thumbnails import clip_strip

        return clip_strip(self.frames)


def is_clip(image: Any) -> bool:
    """Whether an argument is a clip: four axes, or a list of frames."""
    return isinstance(image, (list, tuple)) or len(getattr(image, "shape", ())) == 4


def render_clip(pipeline: Pipeline, clip: Any, labels: Any, key: str, variant: int, split: str, partners: Any, group: str,
                per_frame: bool) -> RenderedClip:  # fmt: skip
    """Every frame through one draw. Raises `ArrayError` for frames of several sizes, and for labels that are not one for each frame."""
    frames = [given_picture(frame, f"frame {place}") for place, frame in enumerate(clip)]
    if not frames:
        raise ArrayError("image: the clip has no frames")
    if len({frame.shape for frame in frames}) > 1:
        raise ArrayError(f"image: frames of one clip have one size, not {', '.join(sorted({str(frame.shape) for frame in frames}))}")
    if isinstance(labels, Labels) or (labels is not None and len(labels) != len(frames)):
        given = "one Labels" if isinstance(labels, Labels) else f"{len(labels)}"
        raise ArrayError(f"labels: a clip of {len(frames)} frames takes a list of as many Labels, not {given}")
    key = key if key != "" else pixel_digest(frames[0])
    draws = ClipDraws(pipeline.seed, group if pipeline.draw_per == "group" and group else key, variant, per_frame)
    found = []
    for place, frame in enumerate(frames):
        draws.begin(place)
        own = partners if isinstance(partners, (Mapping, Dataset)) else [_partner_frame(partner, place) for partner in partners]
        found.append(render_picture(pipeline, frame, labels[place] if labels is not None else None, key, variant, split, own, group, draws))
    return RenderedClip(found)


def _partner_frame(partner: Any, place: int) -> Any:
    """A partner for one frame: a still picture as it is, of a clip the frame in the same place, beginning again where it is shorter."""
    name, image, *labels = partner if isinstance(partner[0], str) else ("", *partner)
    if is_clip(image):
        place %= len(image)
        image, labels = image[place], [each[place] for each in labels]
    return (name, image, *labels) if name else (image, *labels)
