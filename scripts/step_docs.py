"""Write docs/steps.md, a page with a picture strip for each step, and the schemas of files. `make step-docs`; a test keeps the text true."""

from __future__ import annotations

import json
import math
import tempfile
from pathlib import Path
from typing import Any

from varlen.datasets.recipes import Recipe
from varlen.pipeline.document import document_schema
from varlen.steps import BUILT_IN, describe
from varlen.steps.base import Step

PROJECT = Path(__file__).resolve().parent.parent
DOCS = PROJECT / "docs"
CATALOGUE_FILE = PROJECT / "core" / "varlen" / "steps" / "catalogue.json"
IMAGES = 6
TILE = 300


def index() -> str:
    """The list of all steps."""
    lines = [
        "# Steps",
        "",
        "Written from the code by `make step-docs`. A range is `[low, high]`, and `[x, x]` is always x. A range of",
        "factors (×) is drawn evenly in its logarithm, every other range evenly. Every step also has an `id` (its draws depend on it)",
        "and `enabled`. Steps of your own: [own-steps.md](own-steps.md).",
        "",
        "| step | kind | what it does |",
        "|---|---|---|",
    ]
    for cls in BUILT_IN:
        about = describe(cls)
        lines.append(f"| [`{about['step']}`](steps/{about['step']}.md) | {about['kind']} | {about['meaning']} |")
    return "\n".join([*lines, ""])


def page(cls: type[Step]) -> str:
    """The reference page of one step."""
    about = describe(cls)
    lines = [f"# `{about['step']}`", "", f"{about['meaning']} *({about['kind']}, found under “{about['purpose']}”)*", ""]
    settings = settings_shown(cls)
    if settings:
        caption = ", ".join(" ".join(f"{name} {_short(value)}" for name, value in setting.items()) for setting in settings)
        lines += [f"![{about['step']}: {caption}]({about['step']}.jpg)", "", f"From left to right: {caption}.", ""]
    formula = (cls.effect.__doc__ if cls.effect.__doc__ and "effect" in vars(cls) else None) or (
        vars(cls)["apply"].__doc__ if "apply" in vars(cls) else None
    )
    if formula:
        lines += [" ".join(formula.split()), ""]
    chosen = cls.shown[0] if cls.shown else {name: tuple(parameter["default"]) for parameter in about["parameters"] for name in [parameter["name"]]
                                             if settings and name in settings[0]}  # fmt: skip
    shown = ", ".join(f"{name}={value!r}" for name, value in chosen.items())
    lines += ["```python", "import varlen as v", "", f"step = v.{cls.__name__}({shown})", "```", ""]
    lines += ["| parameter | default | allowed | meaning |", "|---|---|---|---|"]
    lines += [_row(parameter) for parameter in about["parameters"]]
    return "\n".join([*lines, ""])


def settings_shown(cls: type[Step]) -> list[dict[str, Any]]:
    """The settings of the strip: those the step names, or its first range at its low, middle and high end."""
    if cls.shown:
        return list(cls.shown)
    for parameter in describe(cls)["parameters"]:
        if parameter["control"] == "span":
            low, high = parameter["default"]
            middle = math.sqrt(low * high) if parameter.get("log") else (low + high) / 2
            middle = round(middle) if parameter.get("whole") else round(middle, 3)
            return [{parameter["name"]: (value, value)} for value in (low, middle, high)]
    return []


def _short(value: Any) -> str:
    if isinstance(value, tuple) and len(set(value)) == 1:
        value = value[0]
    return f"{value:g}" if isinstance(value, (int, float)) else str(value).strip("[]")


def _row(parameter: dict[str, Any]) -> str:
    allowed = " · ".join(f"`{option}`" for option in parameter.get("options", ()))
    if not allowed and "low" in parameter:
        allowed = f"{parameter['low']:g} … {parameter['high']:g} {parameter['unit']}".strip()
    when = "".join(f" (with {name}: {' or '.join(values)})" for name, values in parameter.get("when", {}).items())
    return f"| `{parameter['name']}` | `{json.dumps(parameter['default'])}` | {allowed} | {parameter['meaning']}{when} |"


def schema() -> str:
    """The JSON Schema of pipeline files."""
    return json.dumps(document_schema(), indent=1, ensure_ascii=False) + "\n"


def reading_schema() -> str:
    """The JSON Schema of reading recipes."""
    return json.dumps(Recipe.model_json_schema(by_alias=True), indent=1, ensure_ascii=False) + "\n"


def catalogue() -> str:
    """What `varlen steps` prints from: every built-in step with its parameters and schema."""
    return json.dumps([describe(cls, schema=True) for cls in BUILT_IN], ensure_ascii=False, separators=(",", ":")) + "\n"


def draw_strips(folder: Path) -> None:
    """One picture strip for each step, from the night moth survey."""
    import numpy as np
    from varlen.datasets.formats import read_dataset
    from varlen.datasets.image_files import encode
    from varlen.demo.write import write_demo
    from varlen.pipeline.document import from_json
    from varlen.render.contact_sheet import drawn_tile
    from varlen.render.renderer import Renderer

    with tempfile.TemporaryDirectory() as survey:
        write_demo(Path(survey), IMAGES)
        dataset = read_dataset(Path(survey))
        image = max((key for key, entry in dataset.entries.items() if entry.split == "train"), key=lambda key: len(dataset.entries[key].objects))
        for cls in BUILT_IN:
            tiles = []
            for setting in settings_shown(cls):
                step = {"step": cls.name(), "id": "shown", "probability": 1, "scope": "train", **setting}
                sample, _ = Renderer(dataset, from_json({"varlen_pipeline": 1, "seed": 12, "steps": [step]})).render(image, 1)
                pixels, objects = sample.pixels, sample.objects
                if cls.purpose == "texture" or cls.name() == "elastic":
                    # Fine things are shown from near: the part around the largest object.
                    largest = int((objects.boxes[:, 2] - objects.boxes[:, 0]).argmax())
                    left, top = (max(round(value) - 12, 0) for value in objects.boxes[largest, :2].tolist())
                    pixels, objects = pixels[top : top + 150, left : left + 200], objects.take([largest]).shifted(-left, -top)
                tile = drawn_tile(dataset, np.ascontiguousarray(pixels), objects, TILE)
                tiles += [tile, np.full((len(tile), 6, 3), 255, np.uint8)]
            if tiles:
                height = max(len(tile) for tile in tiles)
                padded = [np.pad(tile, ((0, height - len(tile)), (0, 0), (0, 0)), constant_values=255) for tile in tiles[:-1]]
                (folder / f"{cls.name()}.jpg").write_bytes(encode(np.ascontiguousarray(np.concatenate(padded, 1)), "jpeg", 82))


if __name__ == "__main__":
    (DOCS / "steps").mkdir(exist_ok=True)
    (DOCS / "steps.md").write_text(index())
    (DOCS / "pipeline.schema.json").write_text(schema())
    (DOCS / "reading.schema.json").write_text(reading_schema())
    CATALOGUE_FILE.write_text(catalogue())
    for step in BUILT_IN:
        (DOCS / "steps" / f"{step.name()}.md").write_text(page(step))
    draw_strips(DOCS / "steps")
