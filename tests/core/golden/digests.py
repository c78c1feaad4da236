"""Everything about the golden dataset in digests: `python -m tests.core.golden.digests` writes them anew, on purpose only."""

from __future__ import annotations

import hashlib
import json
import sys
import tempfile
from pathlib import Path
from typing import Any

import orjson
from varlen.datasets import convert, formats
from varlen.datasets.dataset import Dataset
from varlen.editions import export
from varlen.editions.export_spec import ExportSpec
from varlen.errors import VarlenError
from varlen.pipeline.document import from_json
from varlen.render.renderer import Renderer
from varlen.shapes.objects_json import objects_to_json
from varlen.steps import CATALOGUE, describe

from tests.core.golden.dataset import golden, pair
from tests.core.golden.pipelines import EXPORTED, PIPELINES

PINNED = Path(__file__).with_name("pinned.json")
#: Output digests hold the version that made an edition; what is pinned was made by this one.
VERSION = "0.1.0"
FORMATS = list(formats.WRITERS)
#: How the pictures of editions are coded, with their quality.
CODED: dict[Any, int] = {"png": 90, "jpeg": 80}
WITH_PARTNERS = ("mosaic", "mixup", "paste_objects", "mosaic-within")


def sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()[:24]


def variants(dataset: Dataset, document: dict[str, Any]) -> dict[str, str]:
    """Pixels, labels, label maps and traces of two variants and the original of every picture."""
    renderer = Renderer(dataset, from_json(document))
    pixels, labels, maps, traces = [], [], [], []
    for key in dataset.entries:
        for variant in (0, 1, 2):
            sample, trace = renderer.render(key, variant)
            pixels.append(trace["pixel_digest"])
            labels.append(orjson.dumps([objects_to_json(sample.objects, dataset.classes, digits=6), sample.classes], option=orjson.OPT_SORT_KEYS))
            maps.append(b"" if sample.label_map is None else sample.label_map.tobytes())
            traces.append(orjson.dumps(trace, option=orjson.OPT_SORT_KEYS))
    return {
        "pixels": sha("".join(pixels).encode()),
        "labels": sha(b"\n".join(labels)),
        "label_maps": sha(b"|".join(maps)),
        "traces": sha(b"\n".join(traces)),
    }


def tree(folder: Path, without: tuple[str, ...] = ()) -> str:
    """All files of a folder, names and contents."""
    files = sorted(path for path in folder.rglob("*") if path.is_file() and path.name not in without)
    return sha("\n".join(f"{path.relative_to(folder).as_posix()} {sha(path.read_bytes())}" for path in files).encode())


def datasets() -> dict[str, str]:
    """Digests of the datasets themselves."""
    return {"golden": golden().digest(), "golden stored": golden("stored").digest(), "pair": pair().digest()}


def catalogue() -> dict[str, str]:
    """What every step takes: names, defaults, units, limits and the ends of its sliders; not the words about it."""
    found = {}
    for name, cls in CATALOGUE.items():
        facts = [{key: value for key, value in parameter.items() if key != "meaning"} for parameter in describe(cls)["parameters"]]
        found[name] = sha(orjson.dumps(facts, option=orjson.OPT_SORT_KEYS))
    return found


def pipelines() -> dict[str, str]:
    """Digests of the pipelines."""
    return {name: from_json(document).digest for name, document in PIPELINES.items()}


def exported(form: str, image: str, folder: Path) -> list[str]:
    """The output digest of an edition in one format, and a digest of all its files but its record."""
    out = folder / f"{form}-{image}"
    spec = ExportSpec(variants=2, format=form, image=image, quality=CODED[image])
    record = export.export(golden(), from_json(EXPORTED), out, spec, accept_loss=("all",), made_by=VERSION)
    return [record["output_digest"], tree(out, without=("edition.json", "README.md"))]


def converted(form: str, folder: Path) -> list[str | None]:
    """All files of the golden dataset in one format, and its digest as it is read back; a refusal where the format has to refuse."""
    out = folder / f"{form}-converted"
    try:
        convert.convert(golden(), out, form, accept_loss=("all",))
    except VarlenError as error:
        return [f"{type(error).__name__}: {error}", None]
    return [tree(out), formats.read_dataset(out).digest() if form in formats.READERS or form.startswith("yolo") else None]


def all_digests() -> dict[str, Any]:
    """Dataset, pipeline, pixel and output digests, and those of every format's files, there and back."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        there_and_back = {form: converted(form, folder) for form in FORMATS}
        return {
            "catalogue": catalogue(),
            "datasets": datasets(),
            "pipelines": pipelines(),
            "variants": {name: variants(golden(), document) for name, document in PIPELINES.items()},
            "pairs": {name: variants(pair(), PIPELINES[name]) for name in WITH_PARTNERS},
            "exports": {f"{form} {image}": exported(form, image, folder) for form in FORMATS for image in CODED},
            "converted": {form: found[0] for form, found in there_and_back.items()},
            "read back": {form: found[1] for form, found in there_and_back.items() if found[1]},
        }


if __name__ == "__main__":
    PINNED.write_text(json.dumps(all_digests(), indent=1) + "\n")
    print(f"{PINNED}: written", file=sys.stderr)
