"""The `varlen` commands about editions: making, checking, comparing, scoring them."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any, Optional

import typer

from varlen.cli.terminal import (
    DatasetArgument,
    FromOption,
    JsonOption,
    PipelineArgument,
    counter,
    print_table,
    progress_bar,
    read_dataset_at,
    write_file,
)
from varlen.errors import VarlenError

editions = typer.Typer(rich_markup_mode=None)
EditionArgument = Annotated[Path, typer.Argument(metavar="EDITION")]


@editions.command()
def export(dataset: DatasetArgument, pipeline: PipelineArgument, out: Annotated[Path, typer.Option("-o", "--out", metavar="OUT")],
           form: Annotated[str, typer.Option("--format", help="format to write")] = "coco",
           variants: Annotated[int, typer.Option(min=0, max=1000, help="variants of each training image")] = 3,
           originals: Annotated[bool, typer.Option("--originals/--no-originals", help="training originals too, as variant 0")] = True,
           seed: Annotated[int | None, typer.Option(min=0, help="instead of the pipeline's own")] = None,
           image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
           quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
           workers: Annotated[int, typer.Option(min=1, max=256)] = os.cpu_count() or 1,
           splits: Annotated[Optional[str], typer.Option("--splits", metavar="A,B", help="only these splits")] = None,  # noqa: UP045
           split_variants: Annotated[str, typer.Option("--split-variants", metavar="A=N,B=N", help="variants of images of other splits")] = "",
           scheduler: Annotated[str, typer.Option("--scheduler", metavar="ADDRESS", help="let a Dask cluster do the work")] = "",
           resume: Annotated[bool, typer.Option("--resume", help="resume an interrupted export")] = False,
           leave_out: Annotated[bool, typer.Option("--leave-out-broken", help="skip images that can't be made, and record them")] = False,
           read_as: FromOption = None, as_json: JsonOption = False) -> None:  # fmt: skip
    """Write an edition: the augmented dataset with a record of how every image was made."""
    from varlen.editions.chunks import ImageFailed
    from varlen.editions.export import export as write_edition
    from varlen.editions.export_spec import ExportSpec
    from varlen.pipeline.document import read

    chosen = read(pipeline)
    found = read_dataset_at(dataset, read_as)
    spec = ExportSpec(variants, originals, form, image, quality, _splits(splits, found.splits()),  # type: ignore[arg-type]
                  _split_variants(split_variants, found.splits()))  # fmt: skip
    total = sum(spec.counts(found.images_by_split()).values())
    try:
        with progress_bar("writing", total) as done:
            record = write_edition(found, chosen if seed is None else chosen.with_seed(seed), out, spec,
                                   workers=workers, scheduler=scheduler, resume=resume, leave_out=leave_out,
                                   progress=lambda count, _: done(count))  # fmt: skip
    except ImageFailed as error:
        raise VarlenError(f"{error} (what was written is kept: fix the image and run again with --resume, or add --leave-out-broken)") from None
    if as_json:
        print(json.dumps(record, ensure_ascii=False))
        return
    for split, count in record["counts"].items():
        print(f"{split:<12} {count['images']:>7} images {count['objects']:>8} objects")
    for missing in record.get("left_out", []):
        print(f"left out: {missing['source']}, variant {missing['variant']}: {missing['reason']}", file=sys.stderr)
    print(record["output_digest"])


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
def verify(edition: EditionArgument, as_json: JsonOption = False) -> None:
    """Check every file of an edition against its record."""
    from varlen.editions.record import read_record
    from varlen.editions.verify import verify as find_problems

    record = read_record(edition)
    total = sum(split["images"] for split in record["counts"].values())
    with progress_bar("checking", total) as done:
        problems = find_problems(edition, counter(done))
    if as_json:
        print(json.dumps({"good": not problems, "problems": problems, "output_digest": record["output_digest"]}))
    elif not problems:
        print(f"{edition}: good, {total} images, {record['output_digest']}")
    if problems:
        for problem in problems if not as_json else ():
            print(f"{edition}: {problem}", file=sys.stderr)
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

    record = read_record(edition)
    source = dataset or Path(record.get("dataset_path") or "")
    if not source.name or not source.exists():
        where = f"{source} is not there" if source.name else "the edition does not say where"
        raise VarlenError(f"{edition}: its source dataset is needed, and {where}; name it with --dataset")
    made = make_again(edition, find_row(edition, row), read_dataset_at(source, None))
    if out is not None:
        write_file(out, made.data)
    if as_json:
        print(json.dumps({"identical": made.identical, "row": made.row["row"], "file": made.row["file"], "differences": made.differences}))
    else:
        print(f"{made.row['file']}: " + ("identical" if made.identical else "; ".join(made.differences)))
    if not made.identical:
        sys.exit(1)


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
def score(edition: EditionArgument,
          name: Annotated[Optional[str], typer.Argument(metavar="[NAME]", help="such as mAP")] = None,  # noqa: UP045
          value: Annotated[Optional[float], typer.Argument(metavar="[VALUE]")] = None,  # noqa: UP045
          epoch: Annotated[Optional[float], typer.Option(min=0)] = None,  # noqa: UP045
          split: Annotated[str, typer.Option(help="train, validation or test")] = "",
          note: Annotated[str, typer.Option()] = "",
          file: Annotated[Optional[Path], typer.Option("--file", metavar="FILE", help="CSV or JSON lines as trainers write them")] = None,  # noqa: UP045
          as_json: JsonOption = False) -> None:  # fmt: skip
    """Attach numbers from training to an edition; without any, print those it has."""
    from varlen.editions.record import read_record
    from varlen.editions.scores import Score, attach, read_scores, scores_of

    read_record(edition)
    if file is not None:
        try:
            text = file.read_text(encoding="utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            raise VarlenError(f"{file}: {getattr(error, 'strerror', None) or 'not text in UTF-8'}") from None
        found = read_scores(text, str(file))
    elif name is not None and value is not None:
        found = [Score(name, value, epoch, split, note)]
    elif name is not None:
        raise VarlenError("score: a name needs a value, such as: varlen score EDITION mAP 0.71 --split test")
    else:
        scores = scores_of(edition)
        if as_json:
            print(json.dumps([asdict(each) for each in scores], ensure_ascii=False))
        else:
            rows = [[each.name, each.split, "" if each.epoch is None else f"{each.epoch:g}", f"{each.value:g}", each.note] for each in scores]
            print_table([["name", "split", "epoch", "value", "note"], *rows])
        return
    attach(edition, found)
    print(json.dumps({"attached": len(found)}) if as_json else f"{edition}: {len(found)} {'score' if len(found) == 1 else 'scores'} attached")


@editions.command()
def grid(datasets: Annotated[list[Path], typer.Option("-d", "--dataset", metavar="DATASET", help="once for each")],
         pipelines: Annotated[list[Path], typer.Option("-p", "--pipeline", metavar="PIPELINE", help="once for each")],
         out: Annotated[Path, typer.Option("-o", "--out", metavar="DIR")],
         form: Annotated[str, typer.Option("--format", help="format to write")] = "coco",
         variants: Annotated[int, typer.Option(min=0, max=1000)] = 3,
         originals: Annotated[bool, typer.Option("--originals/--no-originals")] = True,
         image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
         quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
         workers: Annotated[int, typer.Option(min=1, max=256)] = os.cpu_count() or 1,
         scheduler: Annotated[str, typer.Option("--scheduler", metavar="ADDRESS")] = "",
         as_json: JsonOption = False) -> None:  # fmt: skip
    """Every pipeline on every dataset; editions that are there already are kept."""
    from varlen.editions.export_spec import ExportSpec
    from varlen.editions.trials import grid as run
    from varlen.pipeline.document import read

    spec = ExportSpec(variants, originals, form, image, quality)  # type: ignore[arg-type]
    chosen = [read(path) for path in pipelines]
    found = [read_dataset_at(path, None) for path in datasets]
    totals = [sum(spec.counts(dataset.images_by_split()).values()) for dataset in found]
    cells, before, current, size = [], 0, "", 0
    with progress_bar("writing", sum(totals) * len(chosen)) as done:

        def told(cell: str, written: int, total: int) -> None:
            nonlocal before, current, size
            if cell != current:
                before, current, size = before + size, cell, total
            done(before + written)

        for cell in run(found, chosen, out, spec, workers=workers, scheduler=scheduler, progress=told):
            cells.append(cell)
            if not as_json:
                print(f"{cell.state:<7} {cell.folder.name}  {cell.message or cell.output_digest}")
    if as_json:
        print(json.dumps([{**asdict(cell), "folder": str(cell.folder)} for cell in cells], ensure_ascii=False))
    if any(cell.state == "failed" for cell in cells):
        sys.exit(1)
