"""The kinds of findings: how grave each is, why it matters, what can be done."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from varlen.errors import DatasetError, LevelsUnclear

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")
#: Every case is named, up to so many of a kind.
EXAMPLES = 1000
#: Boxes longer than this many times their width are suspicious.
EXTREME = 20.0

#: severity, why it matters, what can be done.
KINDS: dict[str, tuple[Severity, str, str]] = {
    "missing-file": ("error", "the labels name a picture that is not there", "bring the file back, or leave the image out"),
    "damaged-file": ("error", "the picture can't be decoded to its end", "import an intact copy, or leave the image out"),
    "levels-unclear": (
        "error",
        "floats, signed or 32-bit levels, several pages or bands: nothing says what is black and what is white",
        "give a rule for levels: low..high, min-max, percentile or bands",
    ),
    "damaged-map": ("error", "a label map can't be decoded, or is of another size than its picture", "mend the label map, or leave the image out"),
    "unnamed-level": ("warning", "a level or color of a label map has no name, so it is no class that can be told", "name it in classes.json"),
    "unknown-class": ("error", "an object's class is not in the list, so it can't be trained on", "add the class, or drop the objects"),
    "bad-label": ("error", "a label can't be read", "mend it in the label file, or drop the object"),
    "size-disagrees": ("error", "the label file gives the picture another size, so its labels may lie elsewhere", "mend the size in the label file"),
    "box-outside": ("warning", "part of a box lies outside its picture", "clip the box to the picture"),
    "box-empty": ("error", "a box has no area, and losses divide by area", "drop the object"),
    "box-duplicate": ("warning", "the same object is labelled twice", "drop one of the two"),
    "box-extreme": ("note", f"a box is over {EXTREME:g} times as long as wide: perhaps corners in the wrong order", "look at it"),
    "outline-crossing": ("warning", "an outline crosses itself, so its inside is uncertain", "redraw it"),
    "keypoint-outside-box": ("note", "a keypoint lies well outside its object's box", "look at it; one of the two may be off"),
    "class-unused": ("note", "a class has no object and no image", "take it off the list"),
    "class-missing-in-split": ("warning", "a class can't be judged, or not be learned, where a split has none of it", "move images between splits"),
    "no-mirror-partner": (
        "warning",
        "a keypoint speaks of a side and has no partner: a flip would teach the left one as the right one",
        "name its partner among the mirror pairs",
    ),
    "background": ("note", "pictures without labels count as background", "nothing, if nothing is to be found on them"),
    "unlisted": ("warning", "pictures that no row names are left out", "add rows for them, or nothing"),
    "path-matched": ("note", "the labels name pictures by other paths; they were found by the end of the path", "check that each is the right one"),
    "oriented": ("note", "outlines were read as oriented boxes", "name the format, if they are outlines"),
    "columns": ("note", "columns of a table were matched by their names", "check that each is read as what it is"),
    "fractions": ("note", "coordinates were read as shares of the pictures' sides", "nothing, if the boxes lie on their objects"),
    "tile-clipped": ("note", "objects at the borders of windows are cut or left out", "choose a larger overlap, if these matter"),
    "duplicate": ("warning", "the same picture is there twice", "leave one out"),
    "duplicate-across-splits": ("error", "the same picture is in two splits: evaluation sees what was trained on", "leave it out of one split"),
    "alike": ("note", "two pictures look alike", "leave one out if they are the same scene"),
    "alike-across-splits": ("warning", "pictures of two splits look alike: evaluation may see what was trained on", "move them into one split"),
    "wrong-suffix": ("note", "the file is of another type than its name says", "rename it"),
    "exif-turned": ("note", "the picture is stored on its side; it is set upright and labels are read upright", "check that its labels fit"),
    "16-bit": ("note", "levels beyond 8 bits are cut to 8", "scale levels before if the picture looks dark"),
    "palette": ("note", "colors come from a palette", "nothing, if the picture looks right"),
    "cmyk": ("warning", "CMYK is converted to RGB without a color profile", "convert it beforehand"),
    "alpha": ("note", "transparency is dropped", "nothing, if the picture looks right"),
    "gray": ("note", "one channel, read as three equal ones", "nothing"),
    "boxes-are-fractions": (
        "error",
        "all boxes are within a pixel or two of the corner: shares of the sides read as pixels?",
        "read it as another format",
    ),
    "boxes-are-centres": ("error", "many boxes stick out to the right and below: centres read as corners?", "read it as another format"),
}

#: What mends a finding, where something simple does.
EDITS = {
    "box-outside": "clip-box", "box-empty": "drop-object", "box-duplicate": "drop-object", "outline-crossing": "drop-object",
    "duplicate": "leave-out", "duplicate-across-splits": "leave-out", "alike": "leave-out", "alike-across-splits": "leave-out",
    "size-disagrees": "leave-out", "damaged-file": "leave-out",
}  # fmt: skip


@dataclass(slots=True)
class Finding:
    """One kind of thing that looks wrong.

    edit: the kind of `Edit` that would mend it, "" where none does; places: image and object of each.
    """

    kind: str
    severity: Severity
    count: int
    examples: list[str]
    why: str
    remedy: str
    edit: str = ""
    places: list[tuple[str, str]] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


def kind_of(error: DatasetError) -> str:
    """The kind of finding that a picture is which can't be decoded."""
    return "levels-unclear" if isinstance(error, LevelsUnclear) else "damaged-file"


class FindingCounts:
    """Findings as they come, in the order of `KINDS`."""

    def __init__(self) -> None:
        self.counts: Counter[str] = Counter()
        self.examples: defaultdict[str, list[str]] = defaultdict(list)
        self.places: defaultdict[str, list[tuple[str, str]]] = defaultdict(list)

    def add(self, kind: str, example: str, image: str = "", thing: str = "") -> None:
        self.counts[kind] += 1
        if len(self.examples[kind]) < EXAMPLES:
            self.examples[kind].append(example)
        if image:
            self.places[kind].append((image, thing))

    def extend(self, more: FindingCounts) -> None:
        self.counts.update(more.counts)
        for kind, examples in more.examples.items():
            self.examples[kind] += examples[: max(EXAMPLES - len(self.examples[kind]), 0)]
        for kind, places in more.places.items():
            self.places[kind] += places

    def findings(self) -> list[Finding]:
        return [
            Finding(kind, severity, self.counts[kind], self.examples[kind], why, remedy, EDITS.get(kind, ""), self.places[kind])
            for kind, (severity, why, remedy) in KINDS.items()
            if self.counts[kind]
        ]


def by_severity(findings: Iterable[Finding]) -> list[Finding]:
    """The worst kinds first, otherwise in the order of `KINDS`."""
    order = list(KINDS)
    return sorted(findings, key=lambda finding: (SEVERITIES.index(finding.severity), order.index(finding.kind)))
