"""Varlen: reproducible augmentation of labelled images.

    import varlen as v

    pipeline = v.Pipeline([v.Flip(probability=0.5), v.Rotate(degrees=(-12, 12), edges="mirror")], seed=20)
    out = pipeline.render(image, v.Labels(boxes=boxes, classes=["moth"]), key="night_0001", variant=3)

Arrays: `Pipeline`, `Labels`, the steps (`Flip`, `Rotate`, …), `sheet`, `strip`, `step` for one of your own.
Datasets: `read_dataset`, `Dataset.from_arrays`, `stream` for training, `export`, `verify`, `recreate`, `forecast`, `compare`, `match`, `probe`.
A server elsewhere: `remote`.
Errors: all derive from `VarlenError`; their messages say what to write instead.

Everything public is listed in `__all__`, made in `varlen.api`, and loaded when it is first asked for: commands that need no arrays
start without them. All other modules are the inside, and may change.
"""

from typing import TYPE_CHECKING

from varlen._version import __version__

if TYPE_CHECKING:
    from varlen.api import (
        ArrayError,
        Batch,
        Blur,
        Branch,
        Brightness,
        ChannelGain,
        Coarsen,
        ColorJitter,
        Compress,
        Contrast,
        Crop,
        Cutout,
        Dataset,
        DatasetError,
        Edition,
        EditionError,
        Elastic,
        Equalize,
        EvidenceError,
        Flip,
        Gamma,
        Grayscale,
        Hue,
        Junction,
        LabelRules,
        Labels,
        Lens,
        Loss,
        Mixup,
        Mosaic,
        MotionBlur,
        Noise,
        Normalize,
        Number,
        Pad,
        Part,
        PasteObjects,
        Perspective,
        Pipeline,
        PipelineError,
        QuarterTurn,
        Range,
        Recreated,
        Relight,
        Remote,
        RemoteError,
        Rendered,
        RenderedClip,
        RenderError,
        Resize,
        Rotate,
        Sample,
        Samples,
        Saturation,
        Scale,
        Sharpen,
        Shear,
        Sheet,
        Shift,
        Skeleton,
        SourceSample,
        Step,
        StepFileError,
        VarlenError,
        Verdict,
        Warmth,
        batch,
        compare,
        export,
        forecast,
        match,
        probe,
        read_dataset,
        recreate,
        remote,
        sheet,
        step,
        stream,
        strip,
        verify,
    )  # fmt: skip

__all__ = [
    "ArrayError", "Batch", "Blur", "Branch", "Brightness", "ChannelGain", "Coarsen", "ColorJitter", "Compress", "Contrast", "Crop", "Cutout",
    "Dataset", "DatasetError", "Edition", "EditionError", "Elastic", "Equalize", "EvidenceError", "Flip", "Gamma", "Grayscale", "Hue", "Junction",
    "LabelRules", "Labels", "Lens", "Loss", "Mixup", "Mosaic", "MotionBlur", "Noise", "Normalize", "Number", "Pad", "Part", "PasteObjects",
    "Perspective", "Pipeline", "PipelineError", "QuarterTurn", "Range", "Recreated", "Relight", "Remote", "RemoteError", "RenderError", "Rendered",
    "RenderedClip", "Resize", "Rotate", "Sample", "Samples", "Saturation", "Scale", "Sharpen", "Shear", "Sheet", "Shift", "Skeleton",
    "SourceSample", "Step", "StepFileError", "VarlenError", "Verdict", "Warmth", "__version__", "batch", "compare", "export", "forecast", "match",
    "probe", "read_dataset", "recreate", "remote", "sheet", "step", "stream", "strip", "verify",
]  # fmt: skip

#: What step files ask for while the catalogue is still being filled.
_OF_STEPS = ("step", "Range", "Number")


def __getattr__(name: str) -> object:
    import importlib

    if name in __all__:
        found: object = getattr(importlib.import_module("varlen.steps.own_step" if name in _OF_STEPS else "varlen.api"), name)
        globals()[name] = found
        return found
    if name.startswith("_"):
        raise AttributeError(f"module 'varlen' has no attribute {name!r}")
    from varlen.steps.problems import missing_name

    raise AttributeError(missing_name(name, __all__))


def __dir__() -> list[str]:
    return __all__
