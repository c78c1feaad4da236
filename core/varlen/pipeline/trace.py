"""What a trace holds: everything that was drawn for one variant and what became of its objects, as JSON has it."""

from __future__ import annotations

from typing import Any, NotRequired, TypedDict

#: The values a step drew, by parameter.
Drawn = dict[str, Any]


class ObjectName(TypedDict):
    """An object by the image it comes from and its id there."""

    image: str
    id: str


class PartnerRecord(TypedDict):
    """A partner of a composite step, and its own way through the earlier steps."""

    image: str
    steps: list[StepRecord]


class StepRecord(TypedDict):
    """One step's draw: whether it fired, with which values, and whom it took in.

    partners: of mosaic, mixup and paste_objects; pasted: the objects that paste_objects laid over the picture.
    """

    id: str
    step: str
    fired: bool
    drawn: Drawn
    partners: NotRequired[list[PartnerRecord]]
    pasted: NotRequired[list[ObjectName]]


class OutcomeRecord(TypedDict):
    """An object that was clipped or dropped: why, by which step, and the share of it that is left (0 … 1)."""

    id: str
    image: str
    reason: str
    step: str
    share: float


class ObjectOutcomes(TypedDict):
    """What became of a variant's objects: numbers of whole and clipped ones, and those clipped and dropped by name."""

    kept: int
    clipped: int
    clipped_by: list[OutcomeRecord]
    dropped: list[OutcomeRecord]


class Trace(TypedDict):
    """One variant explained, complete enough to make it again without drawing.

    source_sha256, partners_sha256: of the image files, hex; size: width and height, px; blank_share: of the picture
    that no source pixel reached, 0 … 1; pixel_digest: `sha256:…` once the pixels were made.
    """

    image: str
    source_sha256: str
    partners_sha256: NotRequired[dict[str, str]]
    seed: int
    variant: int
    steps: list[StepRecord]
    passes: int
    size: list[int]
    blank_share: float
    objects: ObjectOutcomes
    pixel_digest: NotRequired[str]
