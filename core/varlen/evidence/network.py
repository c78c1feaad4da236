"""The probe's network: small enough to be trained in seconds on a processor, with a well-kept library (jax) and the same numbers every time."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from varlen.errors import EvidenceError
from varlen.evidence.crops import Crops, Task

#: Channels of the three convolutions that halve, and of one more.
CHANNELS = (16, 32, 64)
BATCH = 64
LEARNING_RATE = 3e-3
#: Crops in one call for inference.
INFERENCE_BATCH = 256
#: Share of steps in which the rate rises.
WARMUP = 0.1


def require_library() -> None:
    """Raises `EvidenceError` with the one line that helps where the library is missing."""
    try:
        import jax  # noqa: F401
        import optax  # noqa: F401
    except ImportError:
        raise EvidenceError("a probe needs the packages jax and optax: pip install 'varlen[probe]'") from None


def use_one_thread() -> None:
    """To be called before the library is first loaded: runs go side by side in processes, and sums keep their order."""
    os.environ["XLA_FLAGS"] = "--xla_cpu_multi_thread_eigen=false intra_op_parallelism_threads=1"
    os.environ["JAX_PLATFORMS"] = "cpu"


class Network:
    """A network for a task, with weights drawn from a seed."""

    def __init__(self, task: Task, seed: int) -> None:
        self.task = task
        outputs = len(task.columns)
        rng = np.random.Generator(np.random.Philox(seed))
        self.weights: dict[str, Any] = {}
        before = 3
        for place, channels in enumerate(CHANNELS):
            self.weights[f"conv{place}"] = _drawn(rng, (3, 3, before, channels))
            before = channels
        dense = task.name in ("pixels", "keypoints")
        self.weights["more"] = _drawn(rng, (3, 3, before, before))
        self.weights["out"] = _drawn(rng, (1, 1, before, outputs) if dense else (2 * before, outputs))

    def train(self, steps: int, batches: Callable[[int], Crops], on_progress: Callable[[int], None]) -> None:
        """Adam with a rate that rises and falls. batches: the crops of a step; on_progress: called after each step with its number."""
        import jax

        start, step = _training(self.task, steps)
        state = start(self.weights)
        for number in range(steps):
            crops = batches(number)
            self.weights, state = step(self.weights, state, crops.pixels, crops.targets)
            on_progress(number + 1)
        if not all(bool(np.isfinite(np.asarray(each)).all()) for each in jax.tree_util.tree_leaves(self.weights)):
            raise EvidenceError("the probe's network did not converge: its weights are no numbers")

    def predict(self, pixels: NDArray[np.uint8]) -> NDArray[np.int32]:
        """The most likely answer for each crop, as `Crops.targets`."""
        infer = _inference(self.task)
        found = []
        for first in range(0, len(pixels), INFERENCE_BATCH):
            part = pixels[first : first + INFERENCE_BATCH]
            full = np.zeros((INFERENCE_BATCH, *part.shape[1:]), np.uint8)  # one shape is compiled once
            full[: len(part)] = part
            scores = np.asarray(infer(self.weights, full))[: len(part)]
            if self.task.name == "keypoints":
                found.append(scores.reshape(len(part), -1, scores.shape[-1]).argmax(axis=1))
            else:
                found.append(scores.argmax(axis=-1))
        return np.concatenate(found).astype(np.int32) if found else np.zeros(0, np.int32)


@lru_cache(maxsize=8)
def _training(task: Task, steps: int) -> tuple[Any, Any]:
    """What begins a training, and one compiled step of it: compiled once for all runs of a process."""
    import jax
    import optax

    warmup = max(1, int(steps * WARMUP))
    optimizer = optax.adam(optax.warmup_cosine_decay_schedule(0.0, LEARNING_RATE, warmup, max(steps, warmup + 1)))
    loss = _loss_of(task)

    @jax.jit
    def step(weights: Any, state: Any, pixels: Any, targets: Any) -> Any:
        gradients = jax.grad(lambda given: loss(_logits(task, given, pixels), targets))(weights)
        updates, state = optimizer.update(gradients, state)
        return optax.apply_updates(weights, updates), state

    return jax.jit(optimizer.init), step


@lru_cache(maxsize=8)
def _inference(task: Task) -> Any:
    """A compiled function from weights and crops to scores."""
    import jax

    return jax.jit(lambda weights, crops: _logits(task, weights, crops))


def _drawn(rng: np.random.Generator, shape: tuple[int, ...]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Weights of a layer (He et al., 2015), and its biases. Drawn by NumPy: the library would compile a program of two seconds for each shape."""
    fan = int(np.prod(shape[:-1]))
    weights = rng.standard_normal(shape, np.float32) * np.float32(np.sqrt(2.0 / fan))
    return weights, np.zeros(shape[-1], np.float32)


def _convolved(values: Any, layer: Any, stride: int) -> Any:
    import jax

    kernel, bias = layer
    found = jax.lax.conv_general_dilated(values, kernel, (stride, stride), "SAME", dimension_numbers=("NHWC", "HWIO", "NHWC"))
    return found + bias


def _logits(task: Task, weights: Any, pixels: Any) -> Any:
    """Scores: (N, C) for classes, (N, G, G, C) for pixels and keypoints."""
    import jax
    import jax.numpy as jnp

    values = pixels.astype(jnp.float32) / 127.5 - 1.0
    dense = task.name in ("pixels", "keypoints")
    for place in range(len(CHANNELS)):
        # Grids are a quarter of the crop's side: the third convolution halves only for classes.
        values = jax.nn.relu(_convolved(values, weights[f"conv{place}"], 1 if dense and place == 2 else 2))
    values = jax.nn.relu(values + _convolved(values, weights["more"], 1))
    if dense:
        return _convolved(values, weights["out"], 1)
    kernel, bias = weights["out"]
    pooled = jnp.concatenate([values.mean(axis=(1, 2)), values.max(axis=(1, 2))], axis=1)
    return pooled @ kernel + bias


def _loss_of(task: Task) -> Callable[[Any, Any], Any]:
    """Cross-entropy over classes; for keypoints over the cells of each one's map."""
    import jax.numpy as jnp
    import optax

    def loss(scores: Any, targets: Any) -> Any:
        if task.name == "keypoints":
            scores = scores.reshape(scores.shape[0], -1, scores.shape[-1]).transpose(0, 2, 1)
        known = targets >= 0
        each = optax.softmax_cross_entropy_with_integer_labels(scores, jnp.where(known, targets, 0))
        return (each * known).sum() / jnp.maximum(known.sum(), 1)

    return loss
