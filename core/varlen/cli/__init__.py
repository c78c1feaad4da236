"""The terminal. A command lives for a second and makes little garbage: looking for it while modules are loaded, and once more when all is
done, would take a fifth of that."""

import atexit
import gc

gc.set_threshold(50_000, 20, 20)
atexit.register(gc.freeze)
