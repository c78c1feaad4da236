"""What is to be done to the pixels for one variant: a base picture or composite, then stages.

Geometry is kept composed: a `Resample` holds one transform for a whole run of steps, with a
`StepTransform` for each step so that losses can be traced to it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from varlen.kernels.bends import moved, moved_outline
from varlen.kernels.label_transforms import exposed_by, exposed_share
from varlen.model.effects import Bend, Bends, Color, Cover, Curve, Edges, Move, PixelOperation, Recolor, SampledField
from varlen.model.geometry import IDENTITY, Matrix, Point, Rect, Size, translation
from varlen.pipeline.trace import StepRecord

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Window = tuple[int, int, int, int]

Colors = tuple[Recolor | Curve, ...]


class StepTransform(NamedTuple):
    """One step's part in a resample: the transform so far and the frame after it."""

    step: str
    bends: Bends
    matrix: Matrix
    size: Size

    def outline(self, rect: Rect) -> list[Point]:
        """The outline of `rect` after this step."""
        return moved_outline(rect, self.bends, self.matrix)

    def area_factor(self, x: float, y: float) -> float:
        """How much larger things around a point of the picture before have become; bends change sizes only a little."""
        factor = self.matrix.area_factor(x, y) if not self.bends else self.matrix.area_factor(*_middle(self.bends[-1][1].size))
        for place, (before, _) in enumerate(self.bends):
            factor *= before.area_factor(*((x, y) if place == 0 else _middle(self.bends[place - 1][1].size)))
        return factor


@dataclass(slots=True)
class Resample:
    """A run of geometry steps done as one, and the color steps that may follow in the same place.

    The transform is `bends`, each after a matrix of its own, and then `matrix`.
    """

    before: Size
    size: Size
    bends: Bends = ()
    matrix: Matrix = IDENTITY
    edges: Edges | None = None
    edge_color: Color = (0, 0, 0)
    window: Window | None = None
    pad_color: Color = (0, 0, 0)
    colors: Colors = ()
    cut: bool = False
    members: list[StepTransform] = field(default_factory=list)
    _exposed: float | None = None

    @property
    def target(self) -> Window:
        """The part of the new frame that is filled from the picture."""
        return self.window or (0, 0, self.size.width, self.size.height)

    @property
    def target_rect(self) -> Rect:
        """The same in continuous coordinates."""
        x0, y0, x1, y1 = self.target
        return (float(x0), float(y0), float(x1), float(y1))

    @property
    def upright(self) -> bool:
        """True when edges stay parallel to the axes and x stays x."""
        return not self.bends and self.matrix.upright()

    @property
    def lossless(self) -> bool:
        """True when pixels are only moved about."""
        return not self.bends and self.matrix.lossless() and self.exposed == 0.0

    @property
    def exposed(self) -> float:
        """Share of the target that the picture does not reach."""
        if self._exposed is None:
            if self.bends:
                self._exposed = exposed_by(moved_outline(self.before.rect, self.bends, self.matrix), self.target_rect)
            else:
                self._exposed = exposed_share(self.matrix, self.before, self.target_rect)
        return self._exposed

    def points(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Where points (N, 2) of the picture before go."""
        return moved(points, self.bends, self.matrix)

    def outline(self, rect: Rect) -> list[Point]:
        """The outline of `rect` after the move."""
        return moved_outline(rect, self.bends, self.matrix)

    @property
    def mirrors(self) -> bool:
        """True when left and right change places; bends never do that."""
        return self.members[-1].area_factor(*_middle(self.before)) < 0.0 if self.members else False

    def extend(self, step: str, move: Move) -> None:
        """One more move at the end of the run."""
        self.matrix = self.matrix.then(move.matrix)
        self.size = move.size
        self.cut = self.cut or move.cuts
        if move.window is not None:
            x0, y0, x1, y1 = move.window
            self.window, self.pad_color = (int(x0), int(y0), int(x1), int(y1)), move.pad_color
        self._joined(step)

    def bend(self, step: str, bend: Bend) -> None:
        """A bend at the end of the run."""
        matrix, after = self.matrix, IDENTITY
        if isinstance(bend.field, SampledField):  # its control points begin outside the frame, and beyond it nothing is known
            left, top = bend.field.origin
            matrix, after = matrix.then(translation(-left, -top)), translation(left, top)
            self.cut = True
        self.bends, self.matrix = (*self.bends, (matrix, bend.field)), after
        self._joined(step)

    def _joined(self, step: str) -> None:
        self.members.append(StepTransform(step, self.bends, self.matrix, self.size))
        self._exposed = None


@dataclass(frozen=True, slots=True)
class Painted:
    """Areas covered by a step."""

    step: str
    cover: Cover


@dataclass(frozen=True, slots=True)
class Patch:
    """What happens inside one object's box: `place` among the objects, the box in whole pixels, and a plan for it."""

    place: int
    rect: Window
    plan: Plan


@dataclass(frozen=True, slots=True)
class Patched:
    """A step carried out inside objects' boxes, one after another."""

    step: str
    patches: tuple[Patch, ...]


Stage = Resample | Colors | PixelOperation | Painted | Patched


@dataclass(frozen=True, slots=True)
class Tiled:
    """A canvas filled by several plans, each into its own window; the first is the picture's own."""

    step: str
    tiles: tuple[Plan, ...]
    size: Size


@dataclass(frozen=True, slots=True)
class Mixed:
    """A picture through which another shines; `weight` is its own share."""

    step: str
    own: Plan
    partner: Plan
    weight: float


@dataclass(frozen=True, slots=True)
class PastedObject:
    """One object on its way onto the picture: the plan that brings its picture there, and which object it is."""

    plan: Plan
    image: str
    id: str


@dataclass(frozen=True, slots=True)
class Pasted:
    """A picture with objects of others laid over it, in turn."""

    step: str
    own: Plan
    objects: tuple[PastedObject, ...]


@dataclass(slots=True)
class Plan:
    """All that is to be done for one variant: a source picture or a composite, then stages."""

    image: str
    size: Size
    base: Tiled | Mixed | Pasted | None = None
    stages: list[Stage] = field(default_factory=list)
    steps: list[StepRecord] = field(default_factory=list)
    gray: bool = False

    @property
    def passes(self) -> int:
        """How often every pixel is computed anew; copies and painted areas don't count."""
        match self.base:
            case Tiled(tiles=tiles):
                count = max(tile.passes for tile in tiles)
            case Mixed(own=own, partner=partner):
                count = max(own.passes, partner.passes) + 1
            case Pasted(own=own):
                count = own.passes + 1
            case None:
                count = 0
        for stage in self.stages:
            match stage:
                case Resample():
                    count += (not stage.lossless) + len(color_passes(stage.colors))
                case tuple():
                    count += len(color_passes(stage))
                case PixelOperation() | Patched():
                    count += 1
        return count

    @property
    def blank_share(self) -> float:
        """Share of the final picture that no source pixel reached, however it was filled; padding apart."""
        blank = 0.0
        match self.base:
            case Tiled(tiles=tiles, size=size):
                for tile in tiles:
                    x0, y0, x1, y1 = tile.last_window()
                    blank += tile.blank_share * (x1 - x0) * (y1 - y0) / (size.width * size.height)
            case Mixed(own=own, partner=partner, weight=weight):
                blank = weight * own.blank_share + (1.0 - weight) * partner.blank_share
            case Pasted(own=own):
                blank = own.blank_share
        for stage in self.stages:
            if isinstance(stage, Resample):
                blank += (1.0 - blank) * stage.exposed
        return blank

    def partners(self) -> list[str]:
        """Keys of the other pictures it takes in, each once, in the order in which they come in."""
        return [key for key in dict.fromkeys(self._images()) if key != self.image]

    def _images(self) -> Iterator[str]:
        match self.base:
            case Tiled(tiles=tiles):
                parts: tuple[Plan, ...] = tiles
            case Mixed(own=own, partner=partner):
                parts = (own, partner)
            case Pasted(own=own, objects=objects):
                parts = (own, *(each.plan for each in objects))
            case None:
                parts = ()
        yield self.image
        for part in parts:
            yield from part._images()

    def last_window(self) -> Window:
        """The part of the canvas that a tile fills."""
        last = self.stages[-1]
        assert isinstance(last, Resample)
        return last.target


def _middle(size: Size) -> Point:
    return size.width / 2, size.height / 2


def color_passes(colors: Colors) -> list[Colors]:
    """Colors in groups that take one pass each: a curve, a matrix, a curve, each of which may be missing."""
    groups: list[Colors] = []
    for color in colors:
        if groups and len(groups[-1]) < 3 and not (isinstance(color, Recolor) and any(isinstance(each, Recolor) for each in groups[-1])):
            groups[-1] = (*groups[-1], color)
        else:
            groups.append((color,))
    return groups
