"""The `varlen` commands about editions: making, checking, comparing, scoring them."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import DatasetArgument, JsonOption, PipelineArgument, counter, print_table, progress_bar, say, write_file
from varlen.errors import VarlenError

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset
    from varlen.datasets.losses import Loss
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.record import EditionRecord
    from varlen.pipeline.document import Pipeline


def in_words(loss: Loss) -> str:
    """A loss for people."""
    from varlen.datasets import losses

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
           dry_run: Annotated[bool, typer.Option("--dry-run", help="say what would be made; write nothing")] = False,
           as_json: JsonOption = False) -> None:  # fmt: skip
    """Write an edition: the augmented dataset with a record of how every image was made."""
    from varlen.datasets.losses import LossRefused
    from varlen.editions.allotment import Allotment
    from varlen.editions.chunks import ImageFailed
    from varlen.editions.export import export as write_edition
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.hands import fitting_workers
    from varlen.pipeline.document import read

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
    except LossRefused as error:
        if as_json:
            print(json.dumps({"lost": error.lost}))
        raise
    except ImageFailed as error:
        raise VarlenError(f"{error} (what was written is kept: fix the image and run again with --resume, or add --leave-out-broken)") from None
    if as_json:
        print(json.dumps({"lost": [], "class_objects": class_objects(record), **record}, ensure_ascii=False))
        return
    _print_counts(record["counts"])
    if spec.allots:
        _print_classes(class_objects(record))
    for missing in record.get("left_out", []):
        say(f"left out: {missing['source']}, variant {missing['variant']}: {missing['reason']}")
    for line in [*(in_words(loss) for loss in record.get("lost", [])), *record.get("reduced", [])]:
        say(f"lost: {line}")
    print(record["output_digest"])
    print(f"record {record.get('record_digest', '')}")


def _dry_grid(datasets: list[Dataset], pipelines: list[Pipeline], spec: ExportSpec, workers: int | None, as_json: bool) -> None:
    """What every cell of a grid would hold and lose."""
    from varlen.datasets.losses import losses_of
    from varlen.editions.trials import order_for
    from varlen.forecasts.outlook import outlook

    cells = []
    for dataset in datasets:
        for pipeline in pipelines:
            order = order_for(pipeline, spec.for_dataset(dataset))
            found = {**outlook(dataset, pipeline, order, workers), "lost": losses_of(dataset, order.format)}
            cells.append({"dataset": dataset.name, "pipeline": pipeline.name, **found})
            if not as_json:
                print(f"{dataset.name}, {pipeline.name}: {found['total']} images as {order.format}, about {found['bytes'] / 1e6:,.1f} MB")
                for loss in found["lost"]:
                    print(f"lost: {in_words(loss)}")
    print(json.dumps(cells, ensure_ascii=False) if as_json else "nothing was written")


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
    from varlen.datasets.losses import accepted_kinds, losses_of
    from varlen.forecasts.outlook import outlook

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
           as_json: JsonOption = False) -> None:  # fmt: skip
    """Check every file of an edition against its record, and the record against itself."""
    from varlen.editions.record import image_count, read_record
    from varlen.editions.remade import verify_deep
    from varlen.editions.source import source_of
    from varlen.editions.verify import verify as find_problems
    from varlen.stores import url_of

    name = url_of(edition) or edition
    said = read_record(edition)
    total = image_count(said)
    with progress_bar("checking", total * (2 if deep else 1)) as done:
        count = counter(done)
        problems = find_problems(edition, count, record)
        if deep:
            problems += verify_deep(edition, lambda: source_of(edition, said, dataset), count)
    if as_json:
        print(json.dumps({"good": not problems, "problems": problems, "output_digest": said.get("output_digest"),
                          "record_digest": said.get("record_digest"), "deep": deep}))  # fmt: skip
    elif not problems:
        print(f"{name}: good, {total} images, {said['output_digest']}")
        older = "an older edition without a record digest: checked by the rules of its time"
        print(f"record {said['record_digest']}" if "record_digest" in said else older)
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
def rows(edition: EditionArgument,
         out: Annotated[Path, typer.Option("-o", "--out", metavar="FILE", help="the Parquet file to write")]) -> None:  # fmt: skip
    """Write an edition's rows as columns, for tools that ask questions of tables."""
    from varlen.editions.record import image_count, read_record
    from varlen.editions.row_columns import write_columns

    with progress_bar("writing", image_count(read_record(edition))) as done:
        count = write_columns(edition, out, done)
    print(f"{out}: {count} rows")


@editions.command()
def compare(one: EditionArgument, other: EditionArgument, as_json: JsonOption = False) -> None:
    """What differs between two editions: dataset, pipeline, order, counts and label statistics."""
    from varlen.editions.compare import compare as find_differences

    found = find_differences(one, other)
    if as_json:
        print(json.dumps(found, ensure_ascii=False))
        return
    for line in _compared(found):
        print(line)


def _compared(found: dict[str, Any]) -> Iterator[str]:
    """A comparison in words."""
    if found["same"]:
        yield "the two are the same, image for image"
        return
    dataset = found["dataset"]
    yield "dataset        the same" if dataset["same"] else f"dataset        {dataset['names'][0]} | {dataset['names'][1]}"
    for name, (left, right) in (("images", dataset.get("images_only", [{"count": 0}] * 2)),):
        if left["count"] or right["count"]:
            yield f"  {name} only there: {left['count']} | {right['count']}"
    for what in ("pictures", "labels", "splits"):
        if dataset.get(what, {}).get("count"):
            yield f"  other {what}: {dataset[what]['count']} images, such as {dataset[what]['first'][0]}"
    for side, names in zip(("first", "second"), dataset["classes_only"], strict=True):
        if names:
            yield f"  classes only in the {side}: {', '.join(names)}"
    yield "pipeline       the same" if found["pipeline"]["same"] else "pipeline"
    for change in found["pipeline"]["changes"]:
        yield f"  {change['step'] or change['name']} {change['kind']}: {'; '.join(change['lines'])}".rstrip(": ")
    for name, (left, right) in found["order"].items():
        yield f"{name:<14} {left} | {right}"
    for split, counts in found["counts"].items():
        yield f"{split:<14} {counts['images'][0]} | {counts['images'][1]} images, {counts['objects'][0]} | {counts['objects'][1]} objects"
        for name, (left, right) in counts["classes"].items():
            yield f"  {name:<14} {left} | {right}"


@editions.command()
def score(edition: Annotated[str, typer.Argument(metavar="EDITION", help="its folder; with --to its number or name there")],
          name: Annotated[Optional[str], typer.Argument(metavar="[NAME]", help="such as mAP")] = None,  # noqa: UP045
          value: Annotated[Optional[float], typer.Argument(metavar="[VALUE]")] = None,  # noqa: UP045
          epoch: Annotated[Optional[float], typer.Option(min=0)] = None,  # noqa: UP045
          split: Annotated[str, typer.Option(help="train, validation or test")] = "",
          note: Annotated[str, typer.Option()] = "",
          run: Annotated[str, typer.Option("--run", metavar="NAME", help="which training of several, such as a seed")] = "",
          file: Annotated[Optional[Path], typer.Option("--file", metavar="FILE", help="CSV or JSON lines as trainers write them")] = None,  # noqa: UP045
          to: Annotated[str, typer.Option("--to", metavar="URL", help="a server's edition; VARLEN_TOKEN lets in")] = "",
          as_json: JsonOption = False) -> None:  # fmt: skip
    """Attach numbers from training to an edition; without any, print those it has."""
    from varlen.editions.record import read_record
    from varlen.editions.scores import Score, attach, read_scores, scores_of

    folder = Path(edition)
    if not to:
        read_record(folder)
    if file is not None:
        try:
            text = file.read_text(encoding="utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            raise VarlenError(f"{file}: {getattr(error, 'strerror', None) or 'not text in UTF-8'}") from None
        found = read_scores(text, str(file), run)
    elif name is not None and value is not None:
        found = [Score(name, value, epoch, split, note, run=run)]
    elif name is not None:
        raise VarlenError("score: a name needs a value, such as: varlen score EDITION mAP 0.71 --split test")
    else:
        if to:
            raise VarlenError("score: --to needs a name and a value, or --file")
        scores = scores_of(folder)
        if as_json:
            print(json.dumps([asdict(each) for each in scores], ensure_ascii=False))
        else:
            rows = [
                [each.name, each.run, each.split, "" if each.epoch is None else f"{each.epoch:g}", f"{each.value:g}", each.note] for each in scores
            ]
            print_table([["name", "run", "split", "epoch", "value", "note"], *rows])
        return
    if to:
        from varlen.cli.remote import connect

        connect(to).score(edition, [asdict(each) for each in found])
    else:
        attach(folder, found)
    print(json.dumps({"attached": len(found)}) if as_json else f"{edition}: {len(found)} {'score' if len(found) == 1 else 'scores'} attached")


@editions.command()
@reads_dataset
def grid(datasets: Annotated[list[Path], typer.Option("-d", "--dataset", metavar="DATASET", help="once for each")],
         pipelines: Annotated[list[Path], typer.Option("-p", "--pipeline", metavar="PIPELINE", help="once for each")],
         out: Annotated[Path, typer.Option("-o", "--out", metavar="DIR")],
         reading: ReadingOptions,
         to_format: FormatOption = "", variants: VariantsOption = None, total: TotalOption = None, per_class: PerClassOption = None,
         balance: BalanceOption = False, accept_loss: AcceptLossOption = "",
         originals: Annotated[bool, typer.Option("--originals/--no-originals")] = True,
         image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
         quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
         workers: WorkersOption = None,
         scheduler: Annotated[str, typer.Option("--scheduler", metavar="ADDRESS")] = "",
         dry_run: Annotated[bool, typer.Option("--dry-run", help="say what would be made; write nothing")] = False,
         as_json: JsonOption = False) -> None:  # fmt: skip
    """Every pipeline on every dataset; editions that are there already are kept."""
    from varlen.editions.allotment import Allotment
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.hands import fitting_workers
    from varlen.editions.trials import grid as run
    from varlen.pipeline.document import read

    exclusive("--variants, --total and --per-class", variants, total, per_class)
    exclusive("--per-class and --balance", per_class, balance or None)
    spec = ExportSpec(3 if variants is None else variants, originals, to_format, image, quality,  # type: ignore[arg-type]
                      total=total or 0, per_class=per_class or 0, balance=balance)  # fmt: skip
    chosen = [read(path) for path in pipelines]
    found = [reading.read(path) for path in datasets]
    totals = [sum(Allotment(dataset, spec, 0).counts().values()) for dataset in found]
    if dry_run:
        _dry_grid(found, chosen, spec, workers, as_json)
        return
    workers = workers or max(map(fitting_workers, found, totals))
    cells, before, current, size = [], 0, "", 0
    with progress_bar("writing", sum(totals) * len(chosen)) as done:

        def told(cell: str, written: int, total: int) -> None:
            nonlocal before, current, size
            if cell != current:
                before, current, size = before + size, cell, total
            done(before + written)

        for cell in run(found, chosen, out, spec, workers=workers, scheduler=scheduler, accept_loss=kinds(accept_loss), progress=told):
            cells.append(cell)
            if not as_json:
                print(f"{cell.state:<7} {cell.folder.name}  {cell.message or cell.output_digest}")
    if as_json:
        print(json.dumps([{**asdict(cell), "folder": str(cell.folder)} for cell in cells], ensure_ascii=False))
    if any(cell.state == "failed" for cell in cells):
        sys.exit(1)
