"""What `import varlen` offers, and where it is made. Functions here take paths as text and lists as people write them."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from varlen._version import __version__
from varlen.arrays.clips import RenderedClip
from varlen.arrays.looking import sheet, strip
from varlen.arrays.pipeline import Pipeline
from varlen.arrays.rendered import Loss, Rendered
from varlen.arrays.thumbnails import Sheet
from varlen.client import Remote, remote
from varlen.datasets import option_words
from varlen.datasets.array_labels import Labels
from varlen.datasets.convert import LossRefused
from varlen.datasets.dataset import Dataset, SourceSample
from varlen.datasets.formats import read_dataset as _read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.recipes import Recipe, read_recipe
from varlen.datasets.skeleton import Skeleton
from varlen.editions.deep_verify import verify_deep
from varlen.editions.edition import Edition, Verdict
from varlen.editions.edition import compare as _compare
from varlen.editions.export import export as _export
from varlen.editions.export_spec import ExportSpec
from varlen.editions.record import read_record
from varlen.editions.recreate import Recreated
from varlen.editions.recreate import recreate as _recreate
from varlen.editions.rows import Row, find_row
from varlen.editions.signature import private_key, public_key
from varlen.editions.signature import sign as _sign
from varlen.editions.source import known_splits, source_of
from varlen.editions.verify import verify as _verify
from varlen.errors import (
    ArrayError,
    DatasetError,
    EditionError,
    EvidenceError,
    PipelineError,
    ReadProblems,
    RemoteError,
    RenderError,
    StepFileError,
    VarlenError,
)
from varlen.forecasts.label_forecast import forecast as _forecast
from varlen.model.objects import Part
from varlen.pipeline import document
from varlen.pipeline.reading import LabelRules
from varlen.render.samples import Batch, Sample, Samples, batch, stream
from varlen.steps.base import Step
from varlen.steps.camera import Blur, Coarsen, Compress, MotionBlur, Noise, Sharpen
from varlen.steps.color import Brightness, ChannelGain, ColorJitter, Contrast, Gamma, Grayscale, Hue, Saturation, Warmth
from varlen.steps.cutout import Cutout
from varlen.steps.frame import Crop, Pad, Resize
from varlen.steps.junction import Branch, Junction
from varlen.steps.light import Equalize, Relight
from varlen.steps.moves import Flip, QuarterTurn, Rotate, Scale, Shear, Shift
from varlen.steps.normalize import Normalize
from varlen.steps.own_step import Number, Range, step
from varlen.steps.partners import Mixup, Mosaic, PasteObjects
from varlen.steps.warps import Elastic, Lens, Perspective

if TYPE_CHECKING:
    from varlen.evidence.match import Match
    from varlen.evidence.probe import Probe

Pairs = str | Mapping[str, str] | Sequence[tuple[str, str]]


def read_dataset(
    path: Path | str, *, format: str = "", splits: str = "", stratify: bool = True, split_seed: int = 0, splits_from: Path | str | None = None,
    classes: Sequence[str] | str = (), group: str = "", mask_class: str = "", levels: str = "", mirror_pairs: Pairs | None = None,
    mirror_classes: Pairs = (), tile: str | tuple[int, int] | None = None, overlap: int = 0, ignore: Sequence[str] | str = (),
    reading: Path | str | Mapping[str, Any] | None = None, leave_out_broken: bool = False,
) -> Dataset:  # fmt: skip
    """A dataset from a folder, a zip, a file of labels or one picture; its format is recognised.

    format: the format, when it is not recognised; splits: "80/10/10" to draw them in place of what the files say; stratify: divide each
    class alike; split_seed: of the draw; splits_from: a dataset or edition whose pictures keep their split; classes: only these, in this
    order; group: what belongs together, "folder", "field:NAME" or a pattern such as "{group}_frame#"; mask_class: the class of masks that
    hold one; levels: "low..high", "min-max" or "percentile" for levels beyond 8 bits, "bands" for more than three bands; mirror_pairs:
    keypoints that a mirror exchanges, mirror_classes: classes, as "a:b,c:d" or pairs; tile: windows larger pictures are cut into, (width,
    height) or "1024x1024", overlapping by `overlap` px; ignore: patterns of files that are not looked at, such as ``notes/*``; reading: a
    reading recipe, its file or its values, that says how label files are read; leave_out_broken: go on without what can't be read. Raises
    `DatasetError` naming what can't be read, files that could hold labels and that nothing read, and what has to be answered first.

    >>> import varlen as v
    >>> moths = v.read_dataset("moths", splits="80/10/10")
    >>> moths
    Dataset('moths': 60 images, 3 splits, 5 classes)
    >>> sample = next(iter(moths))
    >>> sample.image.shape, sample.labels.classes[:2]
    ((720, 960, 3), ['copper hook', 'dusk marble'])
    """
    drawn = bool(splits) or split_seed != 0 or not stratify
    options = ImportOptions(
        form=format, splits="drawn" if drawn else "files", shares=option_words.shares(splits, "splits") if splits else (0.1, 0.1), seed=split_seed,
        groups=option_words.group(group), keep_classes=option_words.names(classes), stratify=stratify, mask_class=mask_class, levels=levels,
        mirror_pairs=None if mirror_pairs is None else _pairs(mirror_pairs, "mirror_pairs"), mirror_classes=_pairs(mirror_classes, "mirror_classes"),
        tile=option_words.tile(tile, "tile") if isinstance(tile, str) else tile, overlap=overlap, ignore=option_words.names(ignore),
        reading=None if reading is None else Recipe.parse(reading) if isinstance(reading, Mapping) else read_recipe(Path(reading)),
    )  # fmt: skip
    problems = ReadProblems(strict=False)
    known = known_splits(Path(splits_from)) if splits_from is not None else None
    found = _read_dataset(path, None, problems, options, known)
    if problems.noted and not leave_out_broken:
        more = f" (and {len(problems.noted) - 1} more; leave_out_broken=True continues without them)" if len(problems.noted) > 1 else ""
        raise DatasetError(problems.noted[0][1] + more)
    if not len(found.entries):
        raise DatasetError(f"{path}: no image in it can be used")
    return found


def export(
    dataset: Dataset | Path | str, pipeline: document.Pipeline | Path | str, out: Path | str, *, variants: int = 3, format: str = "",
    originals: bool = True, image: Literal["jpeg", "png", "webp"] = "jpeg", quality: int = 90,
    splits: Sequence[str] = (), split_variants: Mapping[str, int] | None = None,
    total: int = 0, per_class: int = 0, balance: bool = False, seed: int | None = None, workers: int = 1, scheduler: str = "", resume: bool = False,
    leave_out_broken: bool = False, accept_loss: Collection[str] = (), progress: Callable[[int, int], None] | None = None,
    sign: Path | str | None = None,
) -> Edition:  # fmt: skip
    """Write an edition: every variant of every image with its labels, and a record of how each was made.

    dataset, pipeline: as read already, or where they lie; format: the dataset's own by default; variants, originals, image, quality,
    splits, split_variants, total, per_class, balance: see `varlen export --help`; seed: instead of the pipeline's own; workers: processes;
    scheduler: a Dask scheduler's address; resume: go on with an interrupted one; accept_loss: kinds of labels that the format may lose, or ["all"];
    progress: called with the images done and their final number; sign: a private key's file, to sign the edition with. Raises
    `EditionError`; nothing that was there is overwritten.

    >>> import varlen as v
    >>> pipeline = v.Pipeline([v.Flip(), v.Resize(width_px=96, height_px=96, fit="letterbox")], seed=20)
    >>> edition = v.export("moths", pipeline, "flipped", variants=1)
    >>> edition.counts["train"]["images"], edition.counts["validation"]["images"]
    (96, 6)
    """
    chosen = _pipeline(pipeline)
    spec = ExportSpec(variants=variants, originals=originals, format=format, image=image, quality=quality, splits=tuple(splits),
                      split_variants=split_variants or {}, total=total, per_class=per_class, balance=balance)  # fmt: skip
    source = _dataset(dataset)
    key = None if sign is None else private_key(Path(sign))
    try:
        _export(source, chosen if seed is None else chosen.with_seed(seed), Path(out), spec, workers=workers, scheduler=scheduler, resume=resume,
                leave_out=leave_out_broken, accept_loss=accept_loss, progress=progress or (lambda done, total: None))  # fmt: skip
    except LossRefused as error:
        raise LossRefused(re.sub(r"--accept-loss (\S+?)(?=,? or |$|,$)", r'accept_loss="\1"', str(error)), error.lost) from None
    if key is not None:
        _sign(Path(out), key)
    return Edition(out)


def verify(edition: Edition | Path | str, *, deep: bool = False, dataset: Dataset | Path | str | None = None, record: str = "",
           signed_by: Path | str | None = None) -> Verdict:  # fmt: skip
    """Whether an edition is as it was made: true, or the list of what was changed, is missing or was added.

    deep: make the whole edition again and compare; dataset: where the source is now; record: the record digest the export told;
    signed_by: the maker's public key, in whose place no digest is needed. Raises `EditionError` where there is no record to check.

    >>> import varlen as v
    >>> edition = v.export("moths", v.Pipeline([v.Resize(width_px=64, height_px=48)]), "small", variants=1)
    >>> bool(v.verify("small"))
    True
    >>> (edition.path / "images" / "train" / "more.jpg").write_bytes(b"x")
    1
    >>> v.verify(edition).problems
    [{'file': 'images/train/more.jpg', 'problem': 'not part of the edition'}]
    """
    folder = Path(edition)
    key = None if signed_by is None else public_key(Path(signed_by))
    problems = _verify(folder, record=record, key=key)
    not_checked: list[str] = []
    if deep and not problems:
        problems, not_checked = verify_deep(folder, lambda: _source(folder, dataset))
    return Verdict(not problems, problems, not_checked)


def recreate(edition: Edition | Path | str, row: int | str, *, dataset: Dataset | Path | str | None = None) -> Recreated:
    """Make one image of an edition again from its record; `identical` says whether it is the same to the byte.

    row: the row's number, or the file's path; dataset: where the source is now. Raises `EditionError` for a row that isn't there, or a
    source that has changed.

    >>> import varlen as v
    >>> edition = v.export("moths", v.Pipeline([v.Rotate(), v.Resize(width_px=64, height_px=48)]), "small", variants=1)
    >>> made = v.recreate(edition, 17)
    >>> made.identical, made.row["variant"], len(made.data) > 500
    (True, 1, True)
    """
    folder = Path(edition)
    found = find_row(folder, str(row))
    return _recreate(folder, found, _source(folder, dataset, found))


def forecast(dataset: Dataset | Path | str, pipeline: document.Pipeline | Path | str, draws: int = 1000) -> dict[str, Any]:
    """What becomes of the objects over many draws, labels alone: lost and clipped by class and step, box sizes, blank area; plain values.

    >>> import varlen as v
    >>> found = v.forecast("moths", v.Pipeline([v.Rotate(degrees=(-40, 40))]), draws=100)
    >>> found["variants"], found["lost_share"] < 0.2
    (100, True)
    """
    return _forecast(_dataset(dataset), _pipeline(pipeline), draws)


def match(dataset: Dataset | Path | str, field: Dataset | Path | str, pipeline: document.Pipeline | Path | str | None = None, *,
          workers: int = 1) -> Match:  # fmt: skip
    """How pictures of the field lie against training pictures and a pipeline's variants, and the steps that would cover them.

    field: pictures from where the model will work; labels are not needed. The result has `auc_before`, `auc_after`, `suggested` (a pipeline,
    empty where nothing is needed), `pipeline` (the given one with the suggested steps), `unreached` and `to_json()`.
    Raises `EvidenceError` for fewer than five pictures on a side.

    >>> import varlen as v
    >>> v.match("moths", "moths").suggested.steps
    ()
    """
    from varlen.evidence.match import match as find_match

    return find_match(_dataset(dataset), _dataset(field), None if pipeline is None else _pipeline(pipeline), workers=workers)


def probe(dataset: Dataset | Path | str, pipelines: Sequence[document.Pipeline | Path | str] | document.Pipeline | Path | str, *,
          seeds: int = 3, minutes: float | None = None, steps: int = 0, task: str = "", out: Path | str | None = None,
          workers: int = 2) -> Probe:  # fmt: skip
    """Does it help? A small network trained with each pipeline and with none, judged on untouched validation pictures.

    pipelines: one or several, as read already, or where they lie; seeds: runs of each, the same seeds for all; minutes: about how long all
    may take; steps: of training, in its place; task: "classification", "objects", "pixels" or "keypoints" in place of what the dataset's
    labels suggest; out: a folder that keeps the runs, so that an interrupted probe continues. The result shows itself as a table in a
    notebook; `results` and `to_json()` hold means, differences with intervals, verdicts and robustness. A proxy: for harmful steps and for
    ranking, not for the scores a real model reaches.
    Needs `pip install 'varlen[probe]'`; raises `EvidenceError`.

    >>> import varlen as v
    >>> found = v.probe("moths", [v.Pipeline([v.Flip()], name="Mirror")], seeds=1, steps=3)
    >>> [row["pipeline"] for row in found.results], found.task.name
    (['none', 'Mirror'], 'objects')
    """
    from varlen.evidence.probe import probe as run_probe

    if isinstance(pipelines, (document.Pipeline, Path, str)):
        pipelines = [pipelines]
    return run_probe(_dataset(dataset), [_pipeline(each) for each in pipelines], seeds=seeds, minutes=minutes, steps=steps, task=task,
                     out=None if out is None else Path(out), workers=workers)  # fmt: skip


def compare(one: Edition | Path | str, other: Edition | Path | str) -> dict[str, Any]:
    """What differs between two editions: dataset, pipeline, order, counts and label statistics, as plain values. Raises `EditionError`.

    >>> import varlen as v
    >>> small = v.Resize(width_px=64, height_px=48)
    >>> one, other = (v.export("moths", v.Pipeline([v.Rotate(degrees=(angle, angle)), small]), f"turned-{angle}", variants=1) for angle in (5, 9))
    >>> found = v.compare(one, other)
    >>> found["same"], found["dataset"]["same"], len(found["pipeline"]["changes"])
    (False, True, 1)
    """
    return _compare(Path(one), Path(other))


def _dataset(given: Dataset | Path | str) -> Dataset:
    return given if isinstance(given, Dataset) else read_dataset(given)


def _pipeline(given: document.Pipeline | Path | str) -> document.Pipeline:
    return given if isinstance(given, document.Pipeline) else Pipeline.read(given)


def _source(folder: Path, dataset: Dataset | Path | str | None, row: Row | None = None) -> Dataset:
    if isinstance(dataset, Dataset):
        return dataset
    return source_of(folder, read_record(folder), None if dataset is None else Path(dataset), "dataset=…", row)


def _pairs(given: Pairs, name: str) -> tuple[tuple[str, str], ...]:
    if isinstance(given, str):
        return option_words.pairs(given, name)
    return tuple((one, other) for one, other in (given.items() if isinstance(given, Mapping) else given))


__all__ = [
    "ArrayError", "Batch", "Blur", "Branch", "Brightness", "ChannelGain", "Coarsen", "ColorJitter", "Compress", "Contrast", "Crop", "Cutout",
    "Dataset", "DatasetError", "Edition", "EditionError", "Elastic", "Equalize", "EvidenceError", "Flip", "Gamma", "Grayscale", "Hue", "Junction",
    "LabelRules", "Labels", "Lens", "Loss", "Mixup", "Mosaic", "MotionBlur", "Noise", "Normalize", "Number", "Pad", "Part", "PasteObjects",
    "Perspective", "Pipeline", "PipelineError", "QuarterTurn", "Range", "Recreated", "Relight", "Remote", "RemoteError", "RenderError", "Rendered",
    "RenderedClip", "Resize", "Rotate", "Sample", "Samples", "Saturation", "Scale", "Sharpen", "Shear", "Sheet", "Shift", "Skeleton",
    "SourceSample", "Step", "StepFileError", "VarlenError", "Verdict", "Warmth", "__version__", "batch", "compare", "export", "forecast", "match",
    "probe", "read_dataset", "recreate", "remote", "sheet", "step", "stream", "strip", "verify",
]  # fmt: skip
