"""Tinsnip: from a dense 3D scan to a checked, closed solid."""

__version__ = "0.1.0"

import os

# linear algebra here is many small systems, solved side by side: threads within each would only stand in the way
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
