"""Varlen: reproducible augmentation of labelled images."""

__version__ = "0.1.0"
