"""Read hostile datasets one after another, in this process: what is no clear refusal is printed, and at the end the memory it took.

python -m tests.hostile.run FIRST LAST      seeds; a line of JSON for each fault, then one with the peak of memory
"""

from __future__ import annotations

import json
import resource
import shutil
import sys
import tempfile
import time
import traceback
from pathlib import Path
from typing import Any

from varlen.datasets.findings import check_dataset
from varlen.datasets.formats import read_dataset
from varlen.datasets.import_options import ImportOptions
from varlen.datasets.importer import Importer, preview_dataset
from varlen.datasets.ingest import IngestedImage
from varlen.errors import ReadProblems, VarlenError

from tests.hostile.cases import write_case

#: No case may take longer, seconds.
LONGEST = 10.0


def kept(image: IngestedImage) -> str:
    return image.entry.key


def nowhere(sha256: str, data: bytes) -> None:
    """A store that keeps nothing."""


def read_all_ways(path: Path, options: dict[str, Any]) -> list[str]:
    """What goes wrong otherwise than by a line that says what and where."""
    faults = []

    def tried(name: str, work: Any) -> None:
        start = time.monotonic()
        try:
            work()
        except VarlenError as error:
            if not str(error).strip():
                faults.append(f"{name}: says nothing")
        except BaseException:
            faults.append(f"{name}: {traceback.format_exc()[-700:]}")
        if time.monotonic() - start > LONGEST:
            faults.append(f"{name}: took {time.monotonic() - start:.0f} s")

    chosen = ImportOptions(**options)
    tried("strictly", lambda: read_dataset(path, options=chosen))
    tried("what it seems to be", lambda: json.dumps(preview_dataset(path)))

    def checked() -> None:
        problems = ReadProblems(strict=False)
        dataset = read_dataset(path, None, problems, chosen)
        json.dumps([finding.to_json() for finding in check_dataset(dataset, problems)])
        dataset.counts()

    def imported() -> None:
        importer = Importer(path, chosen)
        for _ in importer.images(nowhere, kept):
            pass
        json.dumps([finding.to_json() for finding in importer.findings()])

    tried("with findings", checked)
    tried("imported", imported)
    return faults


def main(first: int, last: int) -> None:
    folder = Path(tempfile.mkdtemp(prefix="hostile-"))
    try:
        for seed in range(first, last):
            case = folder / str(seed)
            for fault in read_all_ways(*write_case(seed, case)):
                print(json.dumps({"seed": seed, "fault": fault}), flush=True)
            shutil.rmtree(case, ignore_errors=True)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print(json.dumps({"cases": last - first, "peak": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024}))


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]))
