"""What a small export takes from the command to its end: nearly all of it is starting up."""

from __future__ import annotations

import json
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.exports import USUAL
from benchmarks.timing import Table

VARLEN = Path(sys.executable).parent / "varlen"
TURNS = 7


def measure(survey: Path) -> Table:
    table = Table("Starting up", "what", "seconds, median", "target")
    with tempfile.TemporaryDirectory() as place:
        source, pipeline = Path(place) / "pictures", Path(place) / "usual.json"
        source.mkdir()
        for picture in sorted((survey / "images" / "train").glob("*.jpg"))[:3]:
            shutil.copy(picture, source)
        pipeline.write_text(json.dumps(USUAL))
        command = [VARLEN, "export", source, pipeline, "--variants", "3", "--no-originals", "--accept-loss", "all", "--format", "pictures", "-o"]
        taken = []
        for turn in range(TURNS):
            start = time.perf_counter()
            subprocess.run([*command, Path(place) / str(turn)], check=True, capture_output=True)
            taken.append(time.perf_counter() - start)
    table.add("an export of nine pictures, from the command to its end", statistics.median(taken), "≤ 0.8")
    return table
