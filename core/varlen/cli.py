"""The `varlen` command: a thin layer over the package's own functions.

Modules that load array libraries are imported inside the commands that need them, so that
the others answer at once.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen import __version__
from varlen.errors import VarlenError

if TYPE_CHECKING:
    from varlen.dataset import Dataset

app = typer.Typer(no_args_is_help=True, add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False,
                  help="Reproducible augmentation of labelled images.")  # fmt: skip
pipeline_app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Check a pipeline file or print its full form.")
app.add_typer(pipeline_app, name="pipeline")

DatasetArgument = Annotated[Path, typer.Argument(metavar="DATASET", help="a folder, a zip or an annotation file")]
PipelineArgument = Annotated[Path, typer.Argument(metavar="PIPELINE", help="a *.varlen.json file")]
FromOption = Annotated[Optional[str], typer.Option("--from", metavar="FORMAT", help="the dataset's format, when it is not recognised")]  # noqa: UP045
JsonOption = Annotated[bool, typer.Option("--json", help="machine-readable output")]


def main() -> None:
    """Run the command; anything the user can mend ends with its own message and status 1."""
    try:
        app()
    except VarlenError as error:
        print(error, file=sys.stderr)
        sys.exit(1)
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        sys.exit(130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)


@contextmanager
def _progress(label: str, total: int) -> Iterator[Callable[[int], None]]:
    """A bar on a terminal, nothing elsewhere; the function sets how much is done."""
    if not sys.stderr.isatty():
        yield lambda done: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(label, total=total)
        yield lambda done: bar.update(task, completed=done)


def _counter(set_done: Callable[[int], None]) -> Callable[[], None]:
    done = 0

    def one_more() -> None:
        nonlocal done
        done += 1
        set_done(done)

    return one_more


def _dataset(path: Path, form: str | None) -> Dataset:
    from varlen.formats import read_dataset

    return read_dataset(path, form)


@app.callback(invoke_without_command=True)
def _root(version: Annotated[bool, typer.Option("--version", help="print the version and stop")] = False) -> None:
    if version:
        print(__version__)
        raise typer.Exit


@app.command()
def demo(folder: Annotated[Path, typer.Argument(metavar="DIR")], images: Annotated[int, typer.Option(min=3, max=5000)] = 60,
         seed: Annotated[int, typer.Option(min=0)] = 1907) -> None:  # fmt: skip
    """Write the demo dataset, the night moth survey, and a pipeline for it."""
    from varlen.demo.write import write_demo

    with _progress("rendering", images) as done:
        write_demo(folder, images, seed, progress=_counter(done))
    print(f"{folder}: {images} images in COCO form, pipeline in pipelines/lamp-drift.varlen.json")


@app.command()
def inspect(dataset: DatasetArgument, form: FromOption = None, as_json: JsonOption = False) -> None:
    """Sizes, classes, splits and channel statistics of a dataset."""
    from varlen.inspect import summarise

    found = _dataset(dataset, form)
    with _progress("reading", len(found.entries)) as done:
        summary = summarise(found, _counter(done))
    if as_json:
        print(json.dumps(summary, indent=1, ensure_ascii=False))
        return
    _table([["split", "images", "objects"], *[[split, n["images"], n["objects"]] for split, n in summary["splits"].items()]])
    splits = list(summary["splits"])
    _table([["class", *splits], *[[name, *[counts[split] for split in splits]] for name, counts in summary["classes"].items()]])
    print("image sizes    " + ", ".join(f"{size} px: {count}" for size, count in summary["image_sizes"].items()))
    shapes = summary["objects"]
    print(f"shapes         {shapes['polygons']} polygons, {shapes['masks']} masks, {shapes['crowd']} crowd regions")
    print(f"keypoints      {', '.join(summary['keypoints']) or 'none'}; {len(summary['mirror_pairs'])} mirror pairs")
    print("channel mean   " + "  ".join(f"{value:.2f}" for value in summary["channel_mean"]) + "  (levels 0-255, training split)")
    print("channel std    " + "  ".join(f"{value:.2f}" for value in summary["channel_std"]))


def _table(rows: list[list[Any]]) -> None:
    widths = [max(len(str(row[column])) for row in rows) for column in range(len(rows[0]))]
    for row in rows:
        print("  ".join(str(value).ljust(widths[n]) if n == 0 else str(value).rjust(widths[n]) for n, value in enumerate(row)))
    print()


@app.command()
def steps(name: Annotated[Optional[str], typer.Argument(metavar="[NAME]")] = None, as_json: JsonOption = False) -> None:  # noqa: UP045
    """The catalogue of steps with units, ranges and defaults."""
    from varlen.steps import CATALOGUE, describe

    if name is not None and name not in CATALOGUE:
        raise VarlenError(f"there is no step {name!r}; known are {', '.join(CATALOGUE)}")
    chosen = [CATALOGUE[name]] if name else list(CATALOGUE.values())
    if as_json:
        print(json.dumps([describe(cls) for cls in chosen], indent=1, ensure_ascii=False))
        return
    for cls in chosen:
        about = describe(cls)
        print(f"{about['step']}  ({about['purpose']}) {about['meaning']}")
        for parameter in about["parameters"]:
            limits = f" {parameter['low']:g} … {parameter['high']:g}" if "low" in parameter else ""
            options = " · ".join(parameter.get("options", ()))
            unit = parameter.get("unit", "")
            print(f"    {parameter['name']:<18} default {json.dumps(parameter['default']):<16} {options or (unit + limits).strip()}")
            print(f"    {'':<18} {parameter['meaning']}")
        print()


@pipeline_app.command()
def check(file: PipelineArgument) -> None:
    """Say whether a pipeline file can be used; if not, list all its problems."""
    from varlen.pipeline import read

    pipeline = read(file)
    print(f"{file}: good, {len(pipeline.steps)} steps, {pipeline.digest}")


@pipeline_app.command()
def show(file: PipelineArgument) -> None:
    """Print a pipeline with every default spelled out, and its digest on stderr."""
    from varlen.pipeline import read

    pipeline = read(file)
    print(json.dumps(pipeline.to_json(), indent=2, ensure_ascii=False))
    print(pipeline.digest, file=sys.stderr)


@app.command()
def sheet(dataset: DatasetArgument, pipeline: PipelineArgument, out: Annotated[Path, typer.Option("-o", "--out", metavar="FILE.png")],
          rows: Annotated[int, typer.Option(min=1, max=200)] = 5, variants: Annotated[int, typer.Option(min=1, max=24)] = 4,
          seed: Annotated[int | None, typer.Option(min=0)] = None, tile: Annotated[int, typer.Option(min=32, max=2000, help="px")] = 240,
          form: FromOption = None) -> None:  # fmt: skip
    """A contact sheet as a picture: originals and variants with their labels drawn."""
    from varlen.codec import encode
    from varlen.pipeline import read
    from varlen.record import write_whole
    from varlen.render import Renderer
    from varlen.sheet import contact_sheet, spread

    chosen = read(pipeline)
    found = _dataset(dataset, form)
    renderer = Renderer(found, chosen if seed is None else chosen.with_seed(seed))
    keys = [key for key, entry in found.entries.items() if entry.split == "train"] or list(found.entries)
    images = spread(keys, rows)
    picture = contact_sheet(renderer, images, variants, tile)
    try:
        write_whole(out, encode(picture, "png"))
    except OSError as error:
        raise VarlenError(f"{out}: {error.strerror or error}") from None
    print(f"{out}: {len(images)} images × (original + {variants} variants), {picture.shape[1]}×{picture.shape[0]} px")


@app.command()
def export(dataset: DatasetArgument, pipeline: PipelineArgument, out: Annotated[Path, typer.Option("-o", "--out", metavar="OUT")],
           form: Annotated[str, typer.Option("--format", help="format to write")] = "coco",
           variants: Annotated[int, typer.Option(min=0, max=1000, help="variants of each training image")] = 3,
           originals: Annotated[bool, typer.Option("--originals/--no-originals", help="training originals too, as variant 0")] = True,
           seed: Annotated[int | None, typer.Option(min=0, help="instead of the pipeline's own")] = None,
           image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
           quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
           workers: Annotated[int, typer.Option(min=1, max=256)] = os.cpu_count() or 1,
           resume: Annotated[bool, typer.Option("--resume", help="go on with an interrupted export")] = False,
           read_as: FromOption = None, as_json: JsonOption = False) -> None:  # fmt: skip
    """Write an edition: the augmented dataset with a record of how every image was made."""
    from varlen.export import Order
    from varlen.export import export as write_edition
    from varlen.pipeline import read

    order = Order(variants, originals, form, image, quality)  # type: ignore[arg-type]
    chosen = read(pipeline)
    found = _dataset(dataset, read_as)
    total = sum(order.counts({split: count["images"] for split, count in found.counts().items()}).values())
    with _progress("writing", total) as done:
        record = write_edition(found, chosen if seed is None else chosen.with_seed(seed), out, order,
                               workers=workers, resume=resume, progress=lambda count, _: done(count))  # fmt: skip
    if as_json:
        print(json.dumps(record, ensure_ascii=False))
        return
    for split, count in record["counts"].items():
        print(f"{split:<12} {count['images']:>7} images {count['objects']:>8} objects")
    print(record["output_digest"])


@app.command()
def verify(edition: Annotated[Path, typer.Argument(metavar="EDITION")], as_json: JsonOption = False) -> None:
    """Check every file of an edition against its record."""
    from varlen.record import read_record
    from varlen.verify import verify as find_problems

    record = read_record(edition)
    total = sum(split["images"] for split in record["counts"].values())
    with _progress("checking", total) as done:
        problems = find_problems(edition, _counter(done))
    if as_json:
        print(json.dumps({"good": not problems, "problems": problems, "output_digest": record["output_digest"]}))
    elif not problems:
        print(f"{edition}: good, {total} images, {record['output_digest']}")
    if problems:
        for problem in problems if not as_json else ():
            print(f"{edition}: {problem}", file=sys.stderr)
        sys.exit(1)


if __name__ == "__main__":
    main()
