"""The labels of a plan: from the source, or the sources of a composite, through all stages."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from varlen.labels.occlusion import hide_under_areas, occlude
from varlen.labels.outcomes import LabelState
from varlen.labels.transform import initial_labels, transform_labels
from varlen.model.geometry import Size
from varlen.model.objects import Objects
from varlen.pipeline.plan import Mixed, Painted, Pasted, PastedObject, Patch, Patched, Plan, Resample, Stage, Tiled
from varlen.pipeline.reading import LabelRules


class LabelledImages(Protocol):
    """What is needed of a dataset."""

    @property
    def swap(self) -> NDArray[np.int64]:
        """Mirror partners of the skeleton's keypoints."""

    @property
    def class_swap(self) -> NDArray[np.int64]:
        """For each class the one that a mirror turns it into; empty where there are no such pairs."""

    def objects_of(self, key: str) -> Objects:
        """The labels of an image."""

    def size_of(self, key: str) -> Size:
        """Its width and height."""


def labels_of(plan: Plan, images: LabelledImages, rules: LabelRules) -> LabelState:
    """The labels after everything in `plan`; objects that are too small are still among them (see `transform.drop_small`)."""
    match plan.base:
        case Tiled(step=step, tiles=tiles):
            groups = [labels_of(tile, images, rules) for tile in tiles]
            for partner in groups[1:]:
                partner.forget_unseen(step)
            labels = LabelState.join(groups)
        case Mixed(step=step, own=own, partner=other, weight=weight):
            partner = _weighted(labels_of(other, images, rules), 1.0 - weight)
            partner.forget_unseen(step)
            labels = LabelState.join([_weighted(labels_of(own, images, rules), weight), partner])
        case Pasted(step=step, own=own, objects=objects):
            labels = labels_of(own, images, rules)
            for each in objects:
                guest = pasted_labels(each, images, rules)
                if guest is not None:
                    occlude(labels, guest.objects, step, rules)
                    labels = LabelState.join([labels, guest])
        case None:
            labels = initial_labels(images.objects_of(plan.image), rules, images.size_of(plan.image))
    for stage in plan.stages:
        _through(labels, stage, images, rules)
    return labels


def pasted_labels(pasted: PastedObject, images: LabelledImages, rules: LabelRules) -> LabelState | None:
    """The one object that is laid over the picture, where it ends up; None when nothing of it is left."""
    labels = labels_of(pasted.plan, images, rules)
    objects = labels.objects
    for place in objects.shaped():
        if (objects.images[place], objects.ids[place]) == (pasted.image, pasted.id) and labels.small[place] is None:
            return labels.take([place])
    return None


def _through(labels: LabelState, stage: Stage, images: LabelledImages, rules: LabelRules) -> None:
    match stage:
        case Resample():
            transform_labels(labels, stage, rules, images.swap, images.class_swap)
        case Painted(step=step, cover=painted):
            hide_under_areas(labels, painted.areas, step, rules)
        case Patched():
            _patched(labels, stage, images, rules)


def _patched(labels: LabelState, stage: Patched, images: LabelledImages, rules: LabelRules) -> None:
    """Each object through what happens inside its own box."""
    moving = {patch.place: patch for patch in stage.patches if any(isinstance(each, (Resample, Painted)) for each in patch.plan.stages)}
    if not moving:
        return
    singles = [
        _inside_box(labels.take([place]), moving[place], images, rules) if place in moving else labels.take([place])
        for place in range(len(labels.objects))
    ]
    joined = LabelState.join(singles)
    labels.objects, labels.clipped, labels.small = joined.objects, joined.clipped, joined.small
    labels.dropped += joined.dropped


def _inside_box(labels: LabelState, patch: Patch, images: LabelledImages, rules: LabelRules) -> LabelState:
    left, top = patch.rect[:2]
    labels.objects = labels.objects.shifted(-left, -top)
    for stage in patch.plan.stages:
        _through(labels, stage, images, rules)
    labels.objects = labels.objects.shifted(left, top)
    return labels


def _weighted(labels: LabelState, weight: float) -> LabelState:
    """Note on every object how strongly it shows."""
    attributes = tuple({**each, "weight": round(each.get("weight", 1.0) * weight, 6)} for each in labels.objects.attributes)
    labels.objects = labels.objects.replace(attributes=attributes)
    return labels
