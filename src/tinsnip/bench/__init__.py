"""Benchmarks, as ratios to a yardstick taken in the same process."""

from tinsnip.bench.quality import print_quality, run_quality
from tinsnip.bench.suite import growth, print_sizes, print_table, run_benchmarks

__all__ = ["growth", "print_quality", "print_sizes", "print_table", "run_benchmarks", "run_quality"]
