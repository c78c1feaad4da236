"""The `varlen` commands about editions: making, checking, comparing, scoring them."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import DatasetArgument, JsonOption, PipelineArgument, counter, print_table, progress_bar, say, write_file
from varlen.errors import VarlenError

if TYPE_CHECKING:
    from varlen.datasets.convert import Loss
    from varlen.datasets.dataset import Dataset
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.record import EditionRecord
    from varlen.pipeline.document import Pipeline


def in_words(loss: Loss) -> str:
    """A loss for people."""
    from varlen.datasets import convert as losses

    return losses.in_words(loss)


editions = typer.Typer(rich_markup_mode=None)
FormatOption = Annotated[str, typer.Option("--format", metavar="FORMAT", help="format to write; the dataset's own unless another is wanted")]
VariantsOption = Annotated[Optional[int], typer.Option("--variants", min=0, max=1000, help="variants of each training image, 3 unless given")]  # noqa: UP045
TotalOption = Annotated[Optional[int], typer.Option("--total", min=1, help="exactly so many training images instead")]  # noqa: UP045
PerClassOption = Annotated[Optional[int], typer.Option("--per-class", min=1, help="or at least so many labels of each class")]  # noqa: UP045
BalanceOption = Annotated[bool, typer.Option("--balance", help="more variants of images that show rare classes")]
AcceptLossOption = Annotated[str, typer.Option("--accept-loss", metavar="KIND,KIND", help="kinds of labels that may be lost, or all")]
WorkersOption = Annotated[Optional[int], typer.Option("--workers", min=1, max=256, help="processes; as many as cores, one for few images")]  # noqa: UP045
EditionArgument = Annotated[Path, typer.Argument(metavar="EDITION")]


@editions.command()
@reads_dataset
def export(dataset: DatasetArgument, pipeline: PipelineArgument, reading: ReadingOptions,
           out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="OUT")] = None,  # noqa: UP045
           to_format: FormatOption = "", variants: VariantsOption = None, total: TotalOption = None, per_class: PerClassOption = None,
           balance: BalanceOption = False,
           originals: Annotated[bool, typer.Option("--originals/--no-originals", help="training originals too, as variant 0")] = True,
           seed: Annotated[int | None, typer.Option(min=0, help="instead of the pipeline's own")] = None,
           image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
           quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
           workers: WorkersOption = None,
           splits: Annotated[Optional[str], typer.Option("--splits", metavar="A,B", help="only these splits")] = None,  # noqa: UP045
           split_variants: Annotated[str, typer.Option("--split-variants", metavar="A=N,B=N", help="variants of images of other splits")] = "",
           scheduler: Annotated[str, typer.Option("--scheduler", metavar="ADDRESS", help="let a Dask cluster do the work")] = "",
           resume: Annotated[bool, typer.Option("--resume", help="resume an interrupted export")] = False,
           leave_out: Annotated[bool, typer.Option("--leave-out-broken", help="skip what can't be read or made, and record it")] = False,
           accept_loss: AcceptLossOption = "",
           sign: Annotated[Optional[Path], typer.Option("--sign", metavar="KEY", help="sign the edition with this private key")] = None,  # noqa: UP045
           dry_run: Annotated[bool, typer.Option("--dry-run", help="say what would be made; write nothing")] = False,
           as_json: JsonOption = False) -> None:  # fmt: skip
    """Write an edition: the augmented dataset with a record of how every image was made."""
    from varlen.datasets.convert import LossRefused
    from varlen.editions.allotment import Allotment
    from varlen.editions.chunks import ImageFailed, fitting_workers
    from varlen.editions.export import export as write_edition
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.signature import private_key
    from varlen.editions.signature import sign as sign_edition
    from varlen.pipeline.document import read

    key = None if sign is None else private_key(sign)
    exclusive("--variants, --total and --per-class", variants, total, per_class)
    exclusive("--per-class and --balance", per_class, balance or None)
    if out is None and not dry_run:
        raise typer.BadParameter("where to write is missing: -o OUT")
    chosen = read(pipeline)
    chosen = chosen if seed is None else chosen.with_seed(seed)
    found = reading.read(dataset, lenient=leave_out)
    spec = ExportSpec(3 if variants is None else variants, originals, to_format, image, quality, _splits(splits, found.splits()),  # type: ignore[arg-type]
                  _split_variants(split_variants, found.splits()), total or 0, per_class or 0, balance).for_dataset(found)  # fmt: skip
    if dry_run:
        _dry_run(found, chosen, spec, workers, kinds(accept_loss), as_json)
        return
    assert out is not None
    say_advice(found, chosen)
    images = sum(Allotment(found, spec, chosen.seed).counts().values())
    workers = workers or fitting_workers(found, images)
    try:
        with progress_bar("writing", images) as done:
            record = write_edition(found, chosen, out, spec, workers=workers, scheduler=scheduler, resume=resume, leave_out=leave_out,
                                   accept_loss=kinds(accept_loss), progress=lambda count, _: done(count))  # fmt: skip
        if key is not None:
            sign_edition(out, key)
    except LossRefused as error:
        if as_json:
            print(json.dumps({"lost": error.lost}))
        raise
    except ImageFailed as error:
        raise VarlenError(f"{error} (what was written is kept: fix the image and run again with --resume, or add --leave-out-broken)") from None
    if as_json:
        print(json.dumps({"lost": [], "class_objects": class_objects(record), **record}, ensure_ascii=False))
        return
    if not to_format:
        say(f"written as {spec.format}, the form of the dataset; --format chooses another")
    _print_counts(record["counts"])
    if spec.allots:
        _print_classes(class_objects(record))
    for missing in record.get("left_out", []):
        say(f"left out: {missing['source']}, variant {missing['variant']}: {missing['reason']}")
    for line in [*(in_words(loss) for loss in record.get("lost", [])), *record.get("reduced", [])]:
        say(f"lost: {line}")
    print(record["output_digest"])
    print(f"record {record.get('record_digest', '')}")


def _print_counts(counts: Mapping[str, Any]) -> None:
    for split, count in counts.items():
        print(f"{split:<12} {count['images']:>7} images {count['objects']:>8} objects")


def _print_classes(labels: dict[str, dict[str, int]]) -> None:
    print_table([["class", "training before", "training after"], *[[name, count["before"], count["after"]] for name, count in labels.items()]])


def exclusive(names: str, *given: object) -> None:
    """Raises a usage error (status 2) when more than one is given."""
    if sum(each is not None for each in given) > 1:
        raise typer.BadParameter(f"{names} exclude each other")


def kinds(text: str) -> tuple[str, ...]:
    """Kinds of labels, with commas."""
    return tuple(word.strip() for word in text.split(",") if word.strip())


def class_objects(record: EditionRecord) -> dict[str, dict[str, int]]:
    """Labels of each class in the training split before and after: of objects, and of images where these have classes."""
    before, after = record["statistics"]["before"].get("train", {}), record["counts"].get("train")
    if after is None:
        return {}
    found = {name: {"before": before.get("classes", {}).get(name, 0), "after": count} for name, count in after["classes"].items()}
    for name, count in after.get("image_classes", {}).items():
        both = found.setdefault(name, {"before": 0, "after": 0})
        both["before"] += before.get("image_classes", {}).get(name, 0)
        both["after"] += count
    return found


def say_advice(dataset: Dataset, pipeline: Pipeline) -> None:
    """What is rarely intended, once per run."""
    from varlen.forecasts.advice import advice_on

    for advice in advice_on(dataset, pipeline, draws=False):
        say(f"advice: {advice.step + ': ' if advice.step else ''}{advice.says} {advice.why}")


def _dry_run(dataset: Dataset, pipeline: Pipeline, spec: ExportSpec, workers: int | None, accepted: tuple[str, ...], as_json: bool) -> None:
    """What an order would make: counts, losses, size and time. A loss that is not accepted ends with status 1, as the export would."""
    from varlen.datasets.convert import accepted_kinds, losses_of
    from varlen.forecasts.expected_counts import outlook

    found = outlook(dataset, pipeline, spec, workers)
    lost = losses_of(dataset, spec.format)
    refused = [loss for loss in lost if loss["kind"] not in accepted_kinds(accepted)]
    if as_json:
        print(json.dumps({**found, "lost": lost, "refused": [loss["kind"] for loss in refused]}, ensure_ascii=False))
    else:
        _print_counts(found["counts"])
        _print_classes(found["class_objects"])
        many = "1 process" if found["workers"] == 1 else f"{found['workers']} processes"
        print(f"about {found['bytes'] / 1e6:,.1f} MB, {found['seconds']:,.0f} s with {many}; as {spec.format}")
        for loss in lost:
            print(f"lost: {in_words(loss)}")
        print("nothing was written")
    if refused:
        say(f"not accepted: {', '.join(map(in_words, refused))}; the export needs --accept-loss {','.join(loss['kind'] for loss in refused)}")
        sys.exit(1)


def _splits(given: str | None, there: list[str]) -> tuple[str, ...]:
    """Names of splits, with commas. Raises `VarlenError` for one that is not there."""
    chosen = tuple(name.strip() for name in (given or "").split(",") if name.strip())
    for name in chosen:
        _check_split("--splits", name, there)
    return chosen


def _split_variants(given: str, there: list[str]) -> dict[str, int]:
    """Numbers of variants by split, as A=N,B=N. Raises `VarlenError` for a split that is not there, and what is no number."""
    found = {}
    for part in filter(None, given.split(",")):
        split, _, count = (word.strip() for word in part.partition("="))
        _check_split("--split-variants", split, there)
        if not count.isdecimal():
            raise VarlenError(f"--split-variants: expected SPLIT=NUMBER, not {part!r}")
        found[split] = int(count)
    return found


def _check_split(flag: str, name: str, there: list[str]) -> None:
    if name not in there:
        raise VarlenError(f"{flag}: there is no split {name!r}; there are {', '.join(there)}")


@editions.command()
def verify(edition: EditionArgument,
           deep: Annotated[bool, typer.Option("--deep", help="hold pictures against their digests and remake all from the source")] = False,
           dataset: Annotated[Optional[Path], typer.Option("--dataset", metavar="DATASET", help="where the source dataset is now")] = None,  # noqa: UP045
           record: Annotated[str, typer.Option("--record", metavar="DIGEST", help="the record digest that the export printed")] = "",
           signed_by: Annotated[Optional[Path], typer.Option("--signed-by", metavar="KEY.pub", help="the maker's public key")] = None,  # noqa: UP045
           as_json: JsonOption = False) -> None:  # fmt: skip
    """Check every file of an edition against its record, and the record against itself."""
    from varlen.editions.deep_verify import verify_deep
    from varlen.editions.record import image_count, read_record
    from varlen.editions.signature import public_key
    from varlen.editions.source import source_of
    from varlen.editions.verify import verify as find_problems
    from varlen.stores import url_of

    name = url_of(edition) or edition
    key = None if signed_by is None else public_key(signed_by)
    said = read_record(edition)
    total = image_count(said)
    with progress_bar("checking", total * (2 if deep else 1)) as done:
        count = counter(done)
        problems = find_problems(edition, count, record, key)
        not_checked: list[str] = []
        if deep:
            found = verify_deep(edition, lambda: source_of(edition, said, dataset), count)
            problems, not_checked = problems + found.problems, found.not_checked
    if as_json:
        print(json.dumps({"good": not problems, "problems": problems, "output_digest": said.get("output_digest"),
                          "record_digest": said.get("record_digest"), "deep": deep, "not_checked": not_checked}))  # fmt: skip
    elif not problems:
        print(f"{name}: good, {total} images, {said['output_digest']}")
        older = "an older edition without a record digest: checked by the rules of its time"
        print(f"record {said['record_digest']}" if "record_digest" in said else older)
        if signed_by is not None:
            print(f"signed by {signed_by}")
        elif not_checked and not record:
            print(f"not checked: {', '.join(not_checked)}; --record or --signed-by covers it")
    if problems:
        for problem in problems if not as_json else ():
            say(f"{name}: {problem['file']}: {problem['problem']}")
        sys.exit(1)


@editions.command()
def recreate(edition: EditionArgument,
             row: Annotated[str, typer.Argument(metavar="ROW", help="the row's number, or the file's path in the edition")],
             out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="FILE", help="write the image there")] = None,  # noqa: UP045
             dataset: Annotated[Optional[Path], typer.Option("--dataset", metavar="DATASET", help="where the source dataset is now")] = None,  # noqa: UP045
             as_json: JsonOption = False) -> None:  # fmt: skip
    """Make one exported image again from its record; says whether it is identical."""
    from varlen.editions.record import read_record
    from varlen.editions.recreate import recreate as make_again
    from varlen.editions.rows import find_row
    from varlen.editions.source import source_of

    found = find_row(edition, row)
    made = make_again(edition, found, source_of(edition, read_record(edition), dataset, row=found))
    if out is not None:
        write_file(out, made.data)
    if as_json:
        print(json.dumps({"identical": made.identical, "row": made.row["row"], "file": made.row["file"], "differences": made.differences}))
    else:
        print(f"{made.row['file']}: " + ("identical" if made.identical else "; ".join(made.differences)))
    if not made.identical:
        sys.exit(1)


@editions.command()
def back(edition: EditionArgument,
         predictions: Annotated[Path, typer.Argument(metavar="PREDICTIONS", help="COCO results over the edition: a JSON list with image_id and bbox, "
                                                     "segmentation or keypoints")],
         out: Annotated[Path, typer.Option("-o", "--out", metavar="FILE", help="the JSON file to write")],
         split: Annotated[str, typer.Option("--split", metavar="SPLIT", help="the split whose image ids are meant")] = "",
         dataset: Annotated[Optional[Path], typer.Option("--dataset", metavar="DATASET", help="where the source dataset is now")] = None) -> None:  # noqa: UP045  # fmt: skip
    """Map predictions made on an edition's images back to its source pictures."""
    from varlen.editions.predictions import predictions_back
    from varlen.editions.record import read_record
    from varlen.editions.source import source_of

    try:
        given = json.loads(predictions.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise VarlenError(f"{predictions}: can't be read as JSON ({getattr(error, 'strerror', None) or error})") from None
    if not isinstance(given, list):
        raise VarlenError(f"{predictions}: expected a list of results, each with image_id")
    found, blank = predictions_back(edition, given, source_of(edition, read_record(edition), dataset), split)
    write_file(out, json.dumps(found).encode())
    print(f"{out}: {len(found)} predictions on {len({each['image_id'] for each in found})} source pictures"
          + (f"; {blank} lie in blank area and were left out" if blank else ""))  # fmt: skip


@editions.command()
def rows(edition: EditionArgument,
         out: Annotated[Path, typer.Option("-o", "--out", metavar="FILE", help="the Parquet file to write")]) -> None:  # fmt: skip
    """Write an edition's rows as columns, for tools that ask questions of tables."""
    from varlen.editions.record import image_count, read_record
    from varlen.editions.row_columns import write_columns

    with progress_bar("writing", image_count(read_record(edition))) as done:
        count = write_columns(edition, out, done)
    print(f"{out}: {count} rows")


keys = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Keys that editions are signed with.")


@keys.command()
def new(out: Annotated[Path, typer.Option("-o", "--out", metavar="NAME", help="the private key's file; the public one gets .pub")]) -> None:
    """Make a key to sign editions with."""
    from varlen.editions.signature import new_key

    public = new_key(out)
    print(f"{out}: the private key; keep it to yourself\n{public}: the public key, for everybody who gets your editions")
