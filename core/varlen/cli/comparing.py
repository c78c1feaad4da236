"""Commands that hold editions against one another: compare, score, grid."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.editions import (
    AcceptLossOption,
    BalanceOption,
    EditionArgument,
    FormatOption,
    PerClassOption,
    TotalOption,
    VariantsOption,
    WorkersOption,
    exclusive,
    in_words,
    kinds,
)
from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.terminal import JsonOption, print_table, progress_bar
from varlen.errors import VarlenError

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset
    from varlen.editions.export_spec import ExportSpec
    from varlen.pipeline.document import Pipeline


def _dry_grid(datasets: list[Dataset], pipelines: list[Pipeline], spec: ExportSpec, workers: int | None, as_json: bool) -> None:
    """What every cell of a grid would hold and lose."""
    from varlen.datasets.convert import losses_of
    from varlen.editions.trials import order_for
    from varlen.forecasts.expected_counts import outlook

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


comparing = typer.Typer(rich_markup_mode=None)


@comparing.command()
def compare(one: EditionArgument, other: EditionArgument, as_json: JsonOption = False) -> None:
    """What differs between two editions: dataset, pipeline, order, counts and label statistics."""
    from varlen.editions.edition import compare as find_differences

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


@comparing.command()
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


@comparing.command()
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
    from varlen.editions.chunks import fitting_workers
    from varlen.editions.export_spec import ExportSpec
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

        def on_progress(cell: str, written: int, total: int) -> None:
            nonlocal before, current, size
            if cell != current:
                before, current, size = before + size, cell, total
            done(before + written)

        for cell in run(found, chosen, out, spec, workers=workers, scheduler=scheduler, accept_loss=kinds(accept_loss), progress=on_progress):
            cells.append(cell)
            if not as_json:
                print(f"{cell.state:<7} {cell.folder.name}  {cell.message or cell.output_digest}")
    if as_json:
        print(json.dumps([{**asdict(cell), "folder": str(cell.folder)} for cell in cells], ensure_ascii=False))
    if any(cell.state == "failed" for cell in cells):
        sys.exit(1)
