"""The catalogue of steps."""

from __future__ import annotations

from typing import Any

from varlen.steps.base import Step
from varlen.steps.blur import Blur
from varlen.steps.color_jitter import ColorJitter
from varlen.steps.crop import Crop
from varlen.steps.flip import Flip
from varlen.steps.mosaic import Mosaic
from varlen.steps.resize import Resize
from varlen.steps.rotate import Rotate

CATALOGUE: dict[str, type[Step]] = {cls.name(): cls for cls in (Flip, Rotate, Crop, Resize, ColorJitter, Blur, Mosaic)}

#: Facts every step has; the rest are its own parameters.
COMMON = ("step", "id", "probability", "scope", "enabled")


def describe(cls: type[Step]) -> dict[str, Any]:
    """One step of the catalogue as JSON: what the screen, the docs and `varlen steps` show."""
    parameters = []
    # A step's own parameters first, then what it shares with others of its kind.
    shared = [name for base in reversed(cls.__mro__[1:]) if issubclass(base, Step) for name in base.model_fields]
    ordered = [name for name in cls.model_fields if name not in shared] + [name for name in dict.fromkeys(shared) if name in cls.model_fields]
    for name in ordered:
        if name in ("step", "id", "enabled"):
            continue
        field = cls.model_fields[name]
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        facts = {"name": name, "meaning": field.description or "", "default": field.default, **extra}
        if extra.get("control") in ("option", "scope"):
            facts["options"] = list(getattr(field.annotation, "__args__", ()))
        parameters.append(facts)
    return {
        "step": cls.name(),
        "kind": cls.kind,
        "purpose": cls.purpose,
        "meaning": cls.meaning(),
        "parameters": parameters,
        "schema": cls.model_json_schema(),
    }
