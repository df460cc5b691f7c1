"""Made-up demo scans: an implicit shape, seen by a simulated scanner."""

from tinsnip.demo.library import DEMO_SCANS, demo_file, demo_scan

__all__ = ["DEMO_SCANS", "demo_file", "demo_scan"]
