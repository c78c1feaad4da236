"""Write docs/notebook.ipynb from the cells below and run it, so that it holds what it shows. `make notebook`."""

from __future__ import annotations

import importlib
import os
import sys
import tempfile
from pathlib import Path
from typing import Any

nbformat: Any = importlib.import_module("nbformat")
nbclient: Any = importlib.import_module("nbclient")

NOTEBOOK = Path(__file__).resolve().parent.parent / "docs" / "notebook.ipynb"

CELLS = [
    """# An evening with a pipeline

From one picture to an edition, as a notebook: what you see was run. The pictures are the made-up night moth survey that
`varlen demo moths` writes.""",
    """>import varlen as v

moths = v.read_dataset("moths")
moths""",
    """>key, image, labels, split = moths["images/train/night_0001.jpg"]
labels""",
    """A pipeline is steps in their order. Every step draws from a stream of its own: changing one leaves the draws of all others as they were.""",
    """>pipeline = v.Pipeline([
    v.Flip(probability=0.5),
    v.Rotate(degrees=(-12, 12), edges="mirror"),
    v.ColorJitter(),
    v.Resize(width_px=480, height_px=480, fit="letterbox"),
], seed=20)
v.sheet(pipeline, image, labels, variants=7, key=key, tile_px=150)""",
    """One variant shows itself beside its original; what was lost is crossed out there, and is named with the step to blame.""",
    """>strict = v.Pipeline([v.Crop(mode="random", area_fraction=(0.3, 0.5))], seed=20)
out = strict.render(image, labels, key=key, variant=1)
out""",
    """>out.lost[:3]""",
    """How far may it go? One step at five values, and the forecast for all images.""",
    """>v.strip(v.Rotate, "degrees", image, labels, tile_px=150)""",
    """>v.forecast(moths, pipeline, draws=300)["lost_share"]""",
    """The same draw on a depth map of the same size, in its own type:""",
    """>import numpy as np

depth = np.linspace(0, 5, image.shape[0] * image.shape[1], dtype=np.float32).reshape(image.shape[:2])
moved = pipeline.render(image, key=key).again(depth, fill=-1)
moved.dtype, moved.shape, float(moved.max())""",
    """An edition holds every variant with a record of how it was made. Two makings of the same order have one digest.""",
    """>edition = v.export(moths, pipeline, "edition", variants=1)
edition""",
    """>bool(v.verify(edition)), v.recreate(edition, 17).identical""",
]


def written() -> Any:
    """The notebook, not run yet."""
    cells = [nbformat.v4.new_code_cell(text[1:]) if text.startswith(">") else nbformat.v4.new_markdown_cell(text) for text in CELLS]
    for number, cell in enumerate(cells):
        cell["id"] = f"cell-{number}"
    notebook = nbformat.v4.new_notebook(cells=cells)
    notebook.metadata["kernelspec"] = {"name": "python3", "display_name": "Python 3", "language": "python"}
    return notebook


def run(notebook: Any, folder: Path) -> Any:
    """Run it in a folder; raises for a cell that fails."""
    nbclient.NotebookClient(notebook, timeout=300, kernel_name="python3", resources={"metadata": {"path": str(folder)}}).execute()
    for cell in notebook.cells:
        cell.get("metadata", {}).pop("execution", None)
        for output in cell.get("outputs", []):
            # Where there is a picture of the whole, the tiles one by one would be there twice.
            if "image/png" in output.get("data", {}):
                output["data"].pop("text/html", None)
    return notebook


if __name__ == "__main__":
    from varlen.demo.write import write_demo

    os.environ["PATH"] = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder) / "moths", 60, 1907)
        nbformat.write(run(written(), Path(folder)), NOTEBOOK)
