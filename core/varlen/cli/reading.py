"""Options of every command that reads a dataset: how it is to be read, where its files don't say or say it ambiguously."""

from __future__ import annotations

import functools
import inspect
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.terminal import say, waiting
from varlen.datasets.option_words import group, names, pairs, shares, tile

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset
    from varlen.datasets.import_options import ImportOptions
    from varlen.errors import ReadProblems

#: Problems of a dataset that are named before the rest is only counted.
NAMED = 50


def _option(kind: Any, *flags: str, help: str, metavar: str | None = None, low: int | None = None) -> Any:
    return Annotated[kind, typer.Option(*flags, help=help, metavar=metavar, min=low)]


#: Each option's name in `ReadingOptions`, its type with its flags, and what it is when it isn't given.
_OPTIONS: dict[str, tuple[Any, Any]] = {
    "form": (_option(Optional[str], "--from", metavar="FORMAT", help="the dataset's format, when it is not recognised"), None),  # noqa: UP045
    "split": (_option(str, "--split", metavar="80/10/10", help="draw splits: training, validation, test; replaces what the files say"), ""),
    "stratify": (_option(bool, "--stratify/--no-stratify", help="divide each class alike when splits are drawn"), True),
    "split_seed": (_option(int, "--split-seed", low=0, help="the seed that splits are drawn from"), 0),
    "splits_from": (_option(Optional[Path], "--splits-from", metavar="DATASET", help="pictures that are there too keep their split"), None),  # noqa: UP045
    "classes": (_option(str, "--classes", metavar="A,B,C", help="only these classes, in this order"), ""),
    "group": (_option(str, "--group", metavar="PATTERN", help="what belongs together: folder, field:NAME or a name such as {group}_frame#"), ""),
    "mask_class": (_option(str, "--mask-class", metavar="NAME", help="the class of masks that hold background and one class"), ""),
    "levels": (_option(str, "--levels", metavar="RULE", help="levels beyond 8 bits: low..high, min-max or percentile; more bands: bands"), ""),
    "mirror_pairs": (_option(Optional[str], "--mirror-pairs", metavar="A:B,…", help="keypoints that a mirror exchanges"), None),  # noqa: UP045
    "mirror_classes": (_option(str, "--mirror-classes", metavar="A:B,…", help="classes that a mirror exchanges"), ""),
    "tile": (_option(str, "--tile", metavar="WxH", help="cut larger pictures into windows of this size, px"), ""),
    "overlap": (_option(int, "--overlap", metavar="PX", low=0, help="how far windows overlap, px"), 0),
    "reading": (_option(Optional[Path], "--reading", metavar="FILE", help="a reading recipe that says how its label files are read"), None),  # noqa: UP045
    "ignore": (_option(str, "--ignore", metavar="PATTERN,…", help="files that are not looked at, by path or name, such as notes/*"), ""),
}  # fmt: skip


@dataclass(frozen=True)
class ReadingOptions:
    """The options as they were given."""

    form: str | None = None
    split: str = ""
    stratify: bool = True
    split_seed: int = 0
    splits_from: Path | None = None
    classes: str = ""
    group: str = ""
    mask_class: str = ""
    levels: str = ""
    mirror_pairs: str | None = None
    mirror_classes: str = ""
    tile: str = ""
    overlap: int = 0
    ignore: str = ""
    reading: Path | None = None

    def to_options(self) -> ImportOptions:
        """As the package takes them. Raises `VarlenError` naming the option."""
        from varlen.datasets.import_options import ImportOptions
        from varlen.datasets.recipes import read_recipe

        exchanged = None if self.mirror_pairs is None else pairs(self.mirror_pairs, "--mirror-pairs")
        drawn = bool(self.split) or self.split_seed != 0 or not self.stratify
        parts = shares(self.split, "--split") if self.split else (0.1, 0.1)
        return ImportOptions(
            form=self.form or "", splits="drawn" if drawn else "files", shares=parts, seed=self.split_seed,
            groups=group(self.group), keep_classes=names(self.classes), stratify=self.stratify,
            mask_class=self.mask_class, levels=self.levels, mirror_pairs=exchanged, mirror_classes=pairs(self.mirror_classes, "--mirror-classes"),
            tile=tile(self.tile, "--tile") if self.tile else None, overlap=self.overlap,
            ignore=names(self.ignore),
            reading=read_recipe(self.reading) if self.reading is not None else None,
        )  # fmt: skip

    def read(self, path: Path, lenient: bool = False, problems: ReadProblems | None = None) -> Dataset:
        """The dataset, with all that is to be said of it on stderr.

        Raises `DatasetError` naming all that can't be read; lenient: continues with the rest, and says so.
        """
        from varlen.errors import DatasetError, ReadProblems

        problems = problems or ReadProblems(strict=False)
        with waiting(f"reading {path}"):
            dataset = self.look(path, problems, ask=not lenient)
        if problems.noted and not lenient:
            raise DatasetError(_all(problems.noted))
        for _, message in problems.noted[:NAMED]:
            say(f"left out: {message}")
        say_remarks(problems.remarked)
        if dataset.splits_drawn:
            say(_drawn(self, dataset))
        if not len(dataset.entries):
            raise DatasetError(f"{path}: no image in it can be used")
        return dataset

    def look(self, path: Path, problems: ReadProblems, ask: bool = False) -> Dataset:
        """The dataset for a command that lists its problems itself. ask: stop where files that could hold labels are not read."""
        from varlen.datasets.formats import read_dataset
        from varlen.editions.source import known_splits

        known = known_splits(self.splits_from) if self.splits_from is not None else None
        return read_dataset(path, None, problems, self.to_options(), known, ask=ask)


def reads_dataset(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command whose parameter `reading` stands for all options of reading a dataset."""
    signature = inspect.signature(command, eval_str=True)
    named = {name: each for name, each in signature.parameters.items() if name != "reading"}
    only = inspect.Parameter.KEYWORD_ONLY
    more = {name: inspect.Parameter(name, only, default=default, annotation=kind) for name, (kind, default) in _OPTIONS.items()}

    @functools.wraps(command)
    def wrapped(**values: Any) -> Any:
        reading = ReadingOptions(**{name: values.pop(name) for name in more})
        return command(**values, reading=reading)

    wrapped.__signature__ = signature.replace(  # type: ignore[attr-defined]
        parameters=[*(each.replace(kind=inspect.Parameter.KEYWORD_ONLY) for each in named.values()), *more.values()]
    )
    wrapped.__annotations__ = {name: each.annotation for name, each in (named | more).items()}
    return wrapped


def say_remarks(remarked: list[tuple[str, str]]) -> None:
    """What was noticed, a line for each kind."""
    counts = Counter(kind for kind, _ in remarked)
    for kind, message in dict(reversed(remarked)).items():
        more = f" (and {counts[kind] - 1} more like it)" if counts[kind] > 1 else ""
        say(f"note: {message}{more}")


def _all(noted: list[tuple[str, str]]) -> str:
    """Every problem, the first of them first."""
    first = noted[0][1]
    if len(noted) == 1:
        return first
    more = [f"  {message}" for _, message in noted[1:NAMED]]
    rest = [f"  and {len(noted) - NAMED} more: varlen inspect --findings --json names them"] if len(noted) > NAMED else []
    return "\n".join([first, *more, *rest])


def _drawn(options: ReadingOptions, dataset: Dataset) -> str:
    shares = options.split or "80/10/10"
    counts = ", ".join(f"{split} {count}" for split, count in dataset.images_by_split().items())
    return (
        f"note: splits were drawn ({shares}, seed {options.split_seed}{'' if options.stratify else ', not by class'}): {counts}. "
        f"To keep them: varlen convert writes them down; --splits-from that folder keeps every known image where it is when the dataset grows"
    )
