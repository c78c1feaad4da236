"""One image of a dataset with its labels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from varlen.model.geometry import Size
from varlen.model.objects import Objects


def group_in(extra: dict[str, Any], name: str = "group") -> str:
    """The group that the field `name` among a source's own fields says, "" where it says none."""
    group = extra.get(name)
    return str(group) if isinstance(group, (str, int)) else ""


@dataclass(frozen=True, slots=True)
class Entry:
    """One image of a dataset: its key (path within the dataset), split, upright size and objects.

    group: the name of the group of images that belong together, such as the frames of a
    clip, "" for an image without one; classes: image-level classes; label_map: the path of a
    picture file whose levels are the classes of the pixels, "" where there is none.
    """

    key: str
    split: str
    size: Size
    objects: Objects
    extra: dict[str, Any] = field(default_factory=dict)
    group: str = ""
    classes: tuple[str, ...] = ()
    label_map: str = ""

    def labels(self, classes: Sequence[str]) -> list[str]:
        """The image's own classes and those of its objects, by name. classes: the dataset's."""
        return [*self.classes, *(classes[number] for number in self.objects.classes.tolist())]
