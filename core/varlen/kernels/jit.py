"""How the per-pixel loops are compiled.

The machine code is kept between runs; the folder for it must be set before Numba is first
imported, and must be writable, so it is chosen here. No `fastmath`: it would let bytes
differ between processors. All kernels release the interpreter lock.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar, cast

F = TypeVar("F", bound=Callable[..., Any])


def _cache_folder() -> Path:
    """The first writable of: the user's cache folder, a private folder under the temporary one."""
    home = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "varlen" / "kernels"
    for folder in (home, Path(tempfile.gettempdir()) / f"varlen-kernels-{os.getuid()}"):
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError:
            continue
        if os.access(folder, os.W_OK) and folder.stat().st_uid == os.getuid():
            return folder
    return Path(tempfile.mkdtemp(prefix="varlen-kernels-"))


if "NUMBA_CACHE_DIR" not in os.environ:
    os.environ["NUMBA_CACHE_DIR"] = str(_cache_folder())

from numba import njit  # noqa: E402  the cache folder must be known first
from numba.core.caching import FunctionCache  # noqa: E402
from numba.core.runtime.nrt import rtsys  # noqa: E402


class _KeptCode(FunctionCache):
    """Machine code kept on disk, loaded without what only compiling needs.

    Numba brings in everything that it can compile before it loads the first kept function, SciPy's linear algebra included: most of a second
    in every process. Compiling does the same by itself, so that here the run-time library suffices.
    """

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        rtsys.initialize(target_context)
        with self._guard_against_spurious_io_errors():
            found = self._load_overload(sig, target_context)
        if found is None:
            _say_once()
        return found


def _none_kept() -> bool:
    """Whether no machine code is kept yet: the first use after an install."""
    return next(Path(os.environ["NUMBA_CACHE_DIR"]).rglob("*.nbi"), None) is None


#: Whether it is still to be said that code is compiled: once, by the process that a person began.
_TELL = [multiprocessing.parent_process() is None and not os.environ.get("VARLEN_QUIET") and _none_kept()]


def _say_once() -> None:
    if _TELL[0]:
        _TELL[0] = False
        print("varlen: compiling its pixel loops, once, about 20 s", file=sys.stderr, flush=True)


def kernel(function: F) -> F:
    """Compile a per-pixel loop. Divisions are those of IEEE 754, without a question whether the divisor is zero."""
    compiled: Any = njit(nogil=True, boundscheck=False, error_model="numpy")(function)
    compiled._cache = _KeptCode(function)
    return cast(F, compiled)


def inlined(function: F) -> F:
    """Compile a formula into every kernel that uses it: one with many arrays costs more to call than to compute."""
    compiled: Any = njit(nogil=True, boundscheck=False, error_model="numpy", forceinline=True)(function)
    return cast(F, compiled)
