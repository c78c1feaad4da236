"""The survey in a folder that several processes may want at once: rendered by one of them, waited for by the others.

    python -m varlen.demo.cached_demo FOLDER [IMAGES]

So the set-up can begin with it while the screens are still being built.
"""

from __future__ import annotations

import fcntl
import sys
from collections.abc import Callable
from pathlib import Path

from varlen.demo.write import write_demo


def survey_in(folder: Path, images: int, say: Callable[[str], None]) -> None:
    """Render the survey into `folder` unless it is there, saying how far it is every ten images. Raises `EditionError`.

    A process that finds another rendering waits for it; if that one was killed, it begins anew.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    with folder.with_name(f".{folder.name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if folder.exists():
            return
        say(f"rendering the demo dataset, {images} images …")
        done = 0

        def count() -> None:
            nonlocal done
            done += 1
            if done % 10 == 0:
                say(f"  {done} of {images}")

        write_demo(folder, images, progress=count)


if __name__ == "__main__":
    survey_in(Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 60, lambda line: print(line, file=sys.stderr, flush=True))
