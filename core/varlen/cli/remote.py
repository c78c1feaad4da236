"""The `varlen remote` commands: a Varlen elsewhere, at VARLEN_URL with VARLEN_TOKEN."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from varlen.cli.editions import AcceptLossOption, BalanceOption, FormatOption, PerClassOption, TotalOption, VariantsOption, exclusive, kinds
from varlen.cli.terminal import JsonOption, print_table, progress_bar, say

if TYPE_CHECKING:
    from varlen.client import Remote

remote = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="A Varlen elsewhere: VARLEN_URL says where, VARLEN_TOKEN lets in.")
UrlOption = Annotated[str, typer.Option("--url", metavar="URL", help="instead of VARLEN_URL")]


def connect(url: str = "") -> Remote:
    """The server; says so where the token would go over a network unencrypted."""
    from varlen.client import remote as at

    there = at(url or None)
    if there.exposed:
        say(f"note: {there.url} is not encrypted; whoever is on the way can read the token")
    return there


def _listed(rows: list[dict[str, Any]], columns: tuple[str, ...], as_json: bool) -> None:
    if as_json:
        print(json.dumps(rows, ensure_ascii=False))
    else:
        print_table([["", *columns[1:]], *[[f"{row['id']} {row['name']}", *[str(row[name]) for name in columns[1:]]] for row in rows]])


@remote.command()
def datasets(url: UrlOption = "", as_json: JsonOption = False) -> None:
    """Datasets there."""
    rows = [{**row, "images": sum(split["images"] for split in row["splits"])} for row in connect(url).datasets()]
    _listed(rows, ("name", "images", "format", "made_by"), as_json)


@remote.command()
def pipelines(url: UrlOption = "", as_json: JsonOption = False) -> None:
    """Pipelines there."""
    _listed(connect(url).pipelines(), ("name", "latest", "changed_by"), as_json)


@remote.command("editions")
def list_editions(url: UrlOption = "", as_json: JsonOption = False) -> None:
    """Editions there, the newest first."""
    _listed(connect(url).editions(), ("name", "state", "done", "total", "made_by"), as_json)


@remote.command()
def export(dataset: Annotated[str, typer.Argument(metavar="DATASET", help="number or name of one there")],
           pipeline: Annotated[str, typer.Argument(metavar="PIPELINE", help="a *.varlen.json file here, or number or name of one there")],
           name: Annotated[str, typer.Option(help="what the edition is called")] = "",
           out: Annotated[Optional[Path], typer.Option("-o", "--out", metavar="OUT", help="download it when it is done")] = None,  # noqa: UP045
           to_format: FormatOption = "", variants: VariantsOption = None, total: TotalOption = None, per_class: PerClassOption = None,
           balance: BalanceOption = False,
           originals: Annotated[bool, typer.Option("--originals/--no-originals", help="training originals too, as variant 0")] = True,
           image: Annotated[str, typer.Option(help="jpeg, png or webp")] = "jpeg",
           quality: Annotated[int, typer.Option(min=1, max=100)] = 90,
           accept_loss: AcceptLossOption = "",
           leave_out: Annotated[bool, typer.Option("--leave-out-broken", help="skip what can't be made, and record it")] = False,
           wait: Annotated[bool, typer.Option("--wait/--no-wait", help="until it is done")] = True,
           url: UrlOption = "", as_json: JsonOption = False) -> None:  # fmt: skip
    """Order an edition there, and wait for it."""
    from varlen.editions.export_spec import ExportSpec

    exclusive("--variants, --total and --per-class", variants, total, per_class)
    spec = ExportSpec(3 if variants is None else variants, originals, to_format, image, quality, total=total or 0,  # type: ignore[arg-type]
                      per_class=per_class or 0, balance=balance)  # fmt: skip
    there = connect(url)
    made = there.export(dataset, pipeline, spec, name, kinds(accept_loss), leave_out)
    say(f"edition {made['id']}, {made['name']}: {made['total']:,} images")
    if wait or out is not None:
        with progress_bar("writing there", made["total"]) as done:
            made = there.wait(made["id"], lambda count, _: done(count))
    if out is not None:
        _fetched(there, made["id"], out)
    print(json.dumps(made, ensure_ascii=False) if as_json else (made["output_digest"] or made["id"]))


@remote.command()
def download(edition: Annotated[str, typer.Argument(metavar="EDITION", help="its number or name there")],
             out: Annotated[Path, typer.Option("-o", "--out", metavar="OUT", help="a folder, or a file that ends in .zip")],
             url: UrlOption = "") -> None:  # fmt: skip
    """Fetch an edition; what broke off continues where it was."""
    _fetched(connect(url), edition, out)


def _fetched(there: Remote, edition: int | str, out: Path) -> None:
    with progress_bar("fetching, kB", 1) as done:
        there.download(edition, out, lambda count, _: done(count >> 10))
    say(f"{out}: there")


@remote.command()
def cancel(edition: Annotated[str, typer.Argument(metavar="EDITION", help="its number or name there")], url: UrlOption = "") -> None:
    """Stop making an edition there."""
    there = connect(url)
    there.cancel(there.edition(edition)["id"])
