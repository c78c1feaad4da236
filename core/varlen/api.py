"""What `import varlen` offers, and where it is made."""

from varlen.render.samples import Batch, Sample, Samples, batch, stream

__all__ = ["Batch", "Sample", "Samples", "batch", "stream"]
