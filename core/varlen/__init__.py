"""Varlen: reproducible augmentation of labelled images.

Everything public is listed here, made up in `api`, and loaded when it is first asked for: commands
that need no arrays start without them.
"""

from typing import TYPE_CHECKING

from varlen._version import __version__

if TYPE_CHECKING:
    from varlen.api import Batch, Sample, Samples, batch, stream

__all__ = ["Batch", "Sample", "Samples", "__version__", "batch", "stream"]


def __getattr__(name: str) -> object:
    if name in __all__:
        from varlen import api

        return getattr(api, name)
    raise AttributeError(f"module 'varlen' has no attribute {name!r}")
