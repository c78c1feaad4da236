"""What `import varlen` offers, and where it is made."""

from varlen.render.samples import Sample, Samples, batch, stream

__all__ = ["Sample", "Samples", "batch", "stream"]
