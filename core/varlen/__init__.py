"""Varlen: reproducible augmentation of labelled images."""

from typing import Any

__version__ = "0.1.0"
__all__ = ["__version__", "batch", "stream"]


def __getattr__(name: str) -> Any:
    """`varlen.stream` and `varlen.batch`, loaded when they are asked for: the commands that need no arrays stay quick."""
    if name in ("stream", "batch"):
        from varlen import feed

        return getattr(feed, name)
    raise AttributeError(f"module 'varlen' has no attribute {name!r}")
