"""The version of this package."""

__version__ = "1.0.0"
