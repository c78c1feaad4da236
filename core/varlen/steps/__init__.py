"""The catalogue of steps: those built in, and those from Python files named in VARLEN_STEPS."""

from __future__ import annotations

from typing import Any, get_args

from varlen.steps.base import CATALOGUE as CATALOGUE
from varlen.steps.base import Step
from varlen.steps.camera import Blur, Coarsen, Compress, MotionBlur, Noise, Sharpen
from varlen.steps.color import Brightness, ChannelGain, ColorJitter, Contrast, Gamma, Grayscale, Hue, Saturation, Warmth
from varlen.steps.cutout import Cutout
from varlen.steps.frame import Crop, Pad, Resize
from varlen.steps.junction import Junction
from varlen.steps.light import Equalize, Relight
from varlen.steps.moves import Flip, QuarterTurn, Rotate, Scale, Shear, Shift
from varlen.steps.normalize import Normalize
from varlen.steps.partners import Mixup, Mosaic, PasteObjects
from varlen.steps.plugins import load_step_files
from varlen.steps.problems import STEP_WORDS
from varlen.steps.warps import Elastic, Lens, Perspective

BUILT_IN: tuple[type[Step], ...] = (
    Flip, QuarterTurn, Rotate, Shear, Shift, Scale, Perspective, Elastic, Lens, Crop, Resize, Pad,
    Brightness, Contrast, Saturation, Hue, ColorJitter, Gamma, Warmth, ChannelGain, Grayscale, Equalize, Relight,
    Blur, MotionBlur, Sharpen, Noise, Compress, Coarsen,
    Cutout, Mosaic, Mixup, PasteObjects, Junction, Normalize,
)  # fmt: skip

CATALOGUE.update({cls.name(): cls for cls in BUILT_IN})
load_step_files(CATALOGUE)


def describe(cls: type[Step], schema: bool = False) -> dict[str, Any]:
    """One step of the catalogue as JSON: what the screen, the docs and `varlen steps` show; with its JSON Schema if asked."""
    parameters = []
    for name in cls.parameters():
        if name in ("id", "enabled"):
            continue
        field = cls.model_fields[name]
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        facts = {"name": name, "meaning": field.description or "", "default": plain(field.default), **extra}
        if extra.get("control") in ("option", "scope"):
            facts["options"] = list(get_args(field.annotation))
        parameters.append(facts)
    return {
        "step": cls.name(),
        "kind": cls.kind,
        "purpose": cls.purpose,
        "meaning": cls.meaning(),
        "words": list(STEP_WORDS.get(cls.name(), ())),
        "parameters": parameters,
        **({"schema": cls.model_json_schema()} if schema else {}),
    }


def plain(value: Any) -> Any:
    """A default as JSON holds it."""
    if isinstance(value, tuple):
        return [plain(part) for part in value]
    return value.model_dump(mode="json") if hasattr(value, "model_dump") else value
