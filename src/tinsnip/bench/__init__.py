"""Benchmarks, as ratios to a yardstick taken in the same process."""

from tinsnip.bench.suite import print_table, run_benchmarks

__all__ = ["print_table", "run_benchmarks"]
