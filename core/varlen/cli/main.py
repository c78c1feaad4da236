"""The `varlen` command: a thin layer over the package's own functions.

Modules that load array libraries are imported inside the commands that need them, so that
the others answer at once.
"""

from __future__ import annotations

import json
import os
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen._version import __version__
from varlen.cli.catalogue import catalogue, pipeline_app
from varlen.cli.comparing import comparing
from varlen.cli.editions import (
    AcceptLossOption,
    BalanceOption,
    FormatOption,
    PerClassOption,
    TotalOption,
    VariantsOption,
    editions,
    exclusive,
    keys,
    kinds,
    say_advice,
)
from varlen.cli.evidence import evidence
from varlen.cli.inspecting import inspecting
from varlen.cli.reading import ReadingOptions, reads_dataset
from varlen.cli.remote import remote
from varlen.cli.terminal import (
    QUIET,
    DatasetArgument,
    JsonOption,
    PipelineArgument,
    Shown,
    counter,
    print_table,
    progress_bar,
    say,
    write_file,
)
from varlen.errors import VarlenError

if TYPE_CHECKING:
    from varlen.datasets.dataset import Dataset
    from varlen.pipeline.document import Pipeline

app = typer.Typer(no_args_is_help=True, rich_markup_mode=None, pretty_exceptions_enable=False,
                  help="Reproducible augmentation of labelled images.")  # fmt: skip
app.add_typer(catalogue)
app.add_typer(pipeline_app, name="pipeline")
app.add_typer(editions)
app.add_typer(keys, name="key")
app.add_typer(comparing)
app.add_typer(inspecting)
app.add_typer(evidence)
app.add_typer(remote, name="remote")


def main() -> None:
    """Run the command; anything the user can mend ends with its own message and status 1."""
    if "--quiet" in sys.argv:  # wherever it stands
        sys.argv.remove("--quiet")
        os.environ[QUIET] = "1"
    sys.stdout = Shown(sys.stdout)
    try:
        app()
    except VarlenError as error:
        for line in str(error).split("\n"):
            say(line)
        sys.exit(1)
    except MemoryError:
        say("there is too little memory for this")
        sys.exit(1)
    except OSError as error:
        if isinstance(error, BrokenPipeError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        else:
            say(f"{error.filename or 'file system'}: {error.strerror or error}")
        sys.exit(1)
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        sys.exit(130)
    except Exception as error:  # a fault of ours or of a file that nothing foresaw: one line, and where to look
        if os.environ.get("VARLEN_TRACEBACK"):
            raise
        say(f"varlen: this should not happen ({type(error).__name__}: {str(error)[:200]}); VARLEN_TRACEBACK=1 shows where")
        sys.exit(1)


@app.callback(invoke_without_command=True)
def _root(version: Annotated[bool, typer.Option("--version", help="print the version and stop")] = False,
          quiet: Annotated[bool, typer.Option("--quiet", help="say nothing of progress; anywhere on the line")] = False) -> None:  # fmt: skip
    if version:
        print(__version__)
        raise typer.Exit


@app.command()
def demo(folder: Annotated[Path, typer.Argument(metavar="DIR")], images: Annotated[int, typer.Option(min=3, max=5000)] = 60,
         form: Annotated[str, typer.Option("--format", help="coco, voc, yolo-keypoints, class-folders, mask-pairs, or flawed")] = "coco",
         seed: Annotated[int, typer.Option(min=0)] = 1907) -> None:  # fmt: skip
    """Write the demo dataset, the night moth survey, and a pipeline for it."""
    from varlen.atomic_files import claimed
    from varlen.demo.variants import FORMS, write_variant
    from varlen.demo.write import write_demo

    if form not in FORMS:
        raise VarlenError(f"--format: expected {', '.join(FORMS)}, not {form!r}")
    if form == "flawed" and images < 15:
        raise VarlenError("--images: the flawed set needs at least 15")
    with progress_bar("rendering", images) as done:
        if form == "coco":
            write_demo(folder, images, seed, progress=counter(done))
            print(f"{folder}: {images} images in COCO form, pipeline in pipelines/lamp-drift.varlen.json")
            return
        import shutil

        with claimed(folder) as survey:
            shutil.rmtree(survey, ignore_errors=True)
            try:
                write_demo(survey, images, seed, progress=counter(done))
                if folder.exists():
                    folder.rmdir()
                write_variant(survey, folder, form)
            finally:
                shutil.rmtree(survey, ignore_errors=True)
    print(f"{folder}: {images} images, {form}")


@app.command()
@reads_dataset
def sheet(dataset: DatasetArgument, reading: ReadingOptions, pipeline: PipelineArgument,
          out: Annotated[Path, typer.Option("-o", "--out", metavar="FILE.png")],
          rows: Annotated[int, typer.Option(min=1, max=200)] = 5, variants: Annotated[int, typer.Option(min=1, max=24)] = 4,
          seed: Annotated[int | None, typer.Option(min=0)] = None,
          tile_px: Annotated[int, typer.Option("--tile-px", min=32, max=2000, help="width of a tile, px")] = 240,
          leave_out: Annotated[bool, typer.Option("--leave-out-broken", help="skip what can't be read")] = False) -> None:  # fmt: skip
    """A contact sheet as a picture: originals and variants with their labels drawn."""
    from varlen.datasets.image_files import encode
    from varlen.datasets.summary import evenly_spaced
    from varlen.pipeline.document import read
    from varlen.render.contact_sheet import contact_sheet
    from varlen.render.renderer import Renderer

    if reading.tile.isdecimal():  # a width alone is that of the sheet's tiles
        tile_px, reading = int(reading.tile), replace(reading, tile="")
    chosen = read(pipeline)
    found = reading.read(dataset, lenient=leave_out)
    renderer = Renderer(found, chosen if seed is None else chosen.with_seed(seed))
    keys = found.by_split().get("train") or list(found.entries)
    images = evenly_spaced(keys, rows)
    picture = contact_sheet(renderer, images, variants, tile_px)
    write_file(out, encode(picture, "png"))
    print(f"{out}: {len(images)} images × (original + {variants} variants), {picture.shape[1]}×{picture.shape[0]} px")


@app.command()
@reads_dataset
def convert(dataset: DatasetArgument, reading: ReadingOptions,
            out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="OUT")] = None,  # noqa: UP045
            to_format: FormatOption = "", accept_loss: AcceptLossOption = "",
            leave_out: Annotated[bool, typer.Option("--leave-out-broken", help="skip what can't be read")] = False,
            dry_run: Annotated[bool, typer.Option("--dry-run", help="say what would be written and lost; write nothing")] = False,
            as_json: JsonOption = False) -> None:  # fmt: skip
    """Write a dataset in another format, pictures unchanged; says what that format can't hold."""
    from varlen.datasets.convert import LossRefused, in_words, losses_of
    from varlen.datasets.convert import convert as write_as
    from varlen.datasets.formats import default_format

    found = reading.read(dataset, lenient=leave_out)
    form = to_format or default_format(found)
    if dry_run:
        would = losses_of(found, form)
        if as_json:
            print(json.dumps({"images": len(found.entries), "format": form, "lost": would, "counts": found.counts()}))
        else:
            print("\n".join([f"{len(found.entries)} images as {form}", *(f"lost: {in_words(loss)}" for loss in would), "nothing was written"]))
        return
    if out is None:
        raise typer.BadParameter("where to write is missing: -o OUT")
    with progress_bar("writing", len(found.entries)) as done:
        try:
            lost, reduced = write_as(found, out, form, progress=counter(done), accept_loss=kinds(accept_loss))
        except LossRefused as error:
            if as_json:
                print(json.dumps({"lost": error.lost}))
            raise
    if as_json:
        print(json.dumps({"images": len(found.entries), "format": form, "lost": lost, "reduced": reduced}))
        return
    print(f"{out}: {len(found.entries)} images as {form}")
    for loss in [*map(in_words, lost), *reduced]:
        print(f"lost: {loss}")


@app.command()
@reads_dataset
def variant(dataset: DatasetArgument, reading: ReadingOptions, pipeline: PipelineArgument,
            image: Annotated[str, typer.Argument(metavar="IMAGE", help="its path in the dataset")],
            number: Annotated[int, typer.Argument(metavar="VARIANT", min=0)],
            out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="FILE", help="write the picture there, PNG")] = None,  # noqa: UP045
            seed: Annotated[int | None, typer.Option(min=0)] = None, as_json: JsonOption = False) -> None:  # fmt: skip
    """Make one variant of one image, as a sheet shows it and an edition holds it; prints its trace's figures."""
    from varlen.datasets.image_files import encode
    from varlen.pipeline.document import read
    from varlen.render.renderer import Renderer

    chosen = read(pipeline)
    chosen = chosen if seed is None else chosen.with_seed(seed)
    found = reading.read(dataset)
    if image not in found.entries:
        raise VarlenError(f"{dataset}: there is no image {image!r}")
    sample, trace = Renderer(found, chosen).render(image, number)
    if out is not None:
        write_file(out, encode(sample.pixels, "png"))
    if as_json:
        print(json.dumps(trace, ensure_ascii=False))
        return
    for step in trace["steps"]:
        print(f"{step['id']:<16} " + (json.dumps(step["drawn"]) if step["fired"] else "did not happen"))
    objects = trace["objects"]
    print(f"\n{trace['size'][0]}×{trace['size'][1]} px, {trace['passes']} passes, {objects['kept']} objects whole, {objects['clipped']} clipped, "
          f"{len(objects['dropped'])} lost")  # fmt: skip
    for what, records in (("lost", objects["dropped"]), ("clipped", objects["clipped_by"])):
        for record in records:
            class_name = _class_of(found, record["image"], record["id"])
            partner = "" if record["image"] == image else f" of {record['image']}"
            print(f"  {what}: {class_name} {record['id']}{partner}: {record['reason']}, by {record['step']}, {record['share']:.0%} left")
    if objects["dropped"]:
        rules = chosen.labels
        print(f"  an object is kept from {rules.keep_share:.0%} of it and {rules.keep_side_px:g} px a side on (labels.keep_share, keep_side_px)")
    print(trace["pixel_digest"])


def _class_of(dataset: Dataset, image: str, name: str) -> str:
    objects = dataset.entries[image].objects
    return dataset.classes[int(objects.classes[list(objects.ids).index(name)])] if name in objects.ids else "object"


@app.command()
@reads_dataset
def forecast(dataset: DatasetArgument, reading: ReadingOptions, pipeline: PipelineArgument,
             draws: Annotated[int, typer.Option(min=1, max=1_000_000, help="how many variants to follow")] = 2000,
             limit: Annotated[Optional[str], typer.Option("--limit", metavar="ID.PARAMETER",  # noqa: UP045
                              help="find the largest symmetric range of this parameter …")] = None,
             lose_at_most: Annotated[str, typer.Option("--lose-at-most", metavar="SHARE", help="… that loses no more objects, such as 2%")] = "2%",
             variants: VariantsOption = None, total: TotalOption = None, per_class: PerClassOption = None, balance: BalanceOption = False,
             seed: Annotated[int | None, typer.Option(min=0)] = None, as_json: JsonOption = False) -> None:  # fmt: skip
    """What becomes of the labels, from thousands of draws without touching a pixel; with an order, what a trainer sees of each class."""
    from varlen.forecasts.label_forecast import forecast as look_ahead
    from varlen.forecasts.limits import largest_range
    from varlen.pipeline.document import read

    chosen = read(pipeline)
    chosen = chosen if seed is None else chosen.with_seed(seed)
    found = reading.read(dataset)
    if limit is not None:
        answer = largest_range(found, chosen, limit, _share(lose_at_most), draws)
        if as_json:
            print(json.dumps(answer))
        elif answer["ends"] is None:
            print(f"{limit}: no range will do; {answer['lost_share']:.2%} of the objects are lost without it already")
        else:
            low, high = answer["ends"]
            print(f"{limit}: [{low:g}, {high:g}] loses {answer['lost_share']:.2%} of the objects ({answer['lost_without']:.2%} without it)")
        return
    say_advice(found, chosen)
    with progress_bar("following labels", draws) as done:
        report = look_ahead(found, chosen, draws, done)
    if variants is not None or total is not None or per_class is not None or balance:
        exclusive("--variants, --total and --per-class", variants, total, per_class)
        exclusive("--per-class and --balance", per_class, balance or None)
        report["order"] = _ordered(found, chosen, 3 if variants is None else variants, total or 0, per_class or 0, balance)
    if as_json:
        print(json.dumps(report, ensure_ascii=False))
    else:
        _print_forecast(report)


def _ordered(dataset: Dataset, pipeline: Pipeline, variants: int, total: int, per_class: int, balance: bool) -> dict[str, Any]:
    """Images and labels of each class under an order."""
    from varlen.editions.export_spec import ExportSpec
    from varlen.forecasts.expected_counts import labels_of_order

    return labels_of_order(dataset, pipeline, ExportSpec(variants, total=total, per_class=per_class, balance=balance))


def _share(text: str) -> float:
    """A share given as 2% or 0.02. Raises `VarlenError` for anything else."""
    try:
        share = float(text[:-1]) / 100 if text.endswith("%") else float(text)
    except ValueError:
        share = -1.0
    if not 0.0 <= share <= 1.0:
        raise VarlenError(f"--lose-at-most: expected a share such as 2% or 0.02, not {text!r}")
    return share


def _print_forecast(report: dict[str, Any]) -> None:
    objects = report["objects"]
    print(f"{report['variants']} variants of {report['images']} training images, {objects['before']} objects: {objects['kept']} kept, "
          f"{objects['clipped']} clipped, {objects['dropped']} dropped ({report['lost_share']:.2%} lost to the pipeline)\n")  # fmt: skip
    print_table([["class", "before", "after", "clipped", "dropped", "share before", "share after"],
            *[[name, n["before"], n["after"], n["clipped"], n["dropped"], f"{n['balance_before']:.1%}", f"{n['balance_after']:.1%}"]
              for name, n in report["classes"].items()]])  # fmt: skip
    print_table([["step to blame", "clipped", "dropped", "reasons"],
            *[[step, n["clipped"], n["dropped"], ", ".join(f"{reason} {count}" for reason, count in n["reasons"].items())]
              for step, n in report["steps"].items()]])  # fmt: skip
    before, after = report["box_side_px"]["before"], report["box_side_px"]["after"]
    print_table([["box side, px", *before], ["before", *before.values()], ["after", *after.values()]])
    blank = report["blank_share"]
    if blank:
        print(f"blank share    mean {blank['mean']:.2%}, 95 % of variants under {blank['95%']:.2%}, largest {blank['largest']:.2%}")
    points = report["keypoints"]
    if points["before"]:
        print(f"keypoints      {points['before']} before, {points['after']} after ({1 - points['after'] / points['before']:.2%} lost)")
    print("passes         " + ", ".join(f"{count} in {number} variants" for count, number in report["passes"].items()))
    for message, count in report["refused"].items():
        print(f"refused        {count} variants: {message}")
    if "order" in report:
        images = ", ".join(f"{split} {count['images']}" for split, count in report["order"]["counts"].items())
        print(f"\nas ordered     {images}")
        print_table([["class", "training before", "training after"],
                     *[[name, n["before"], n["after"]] for name, n in report["order"]["class_objects"].items()]])  # fmt: skip


if __name__ == "__main__":
    main()
