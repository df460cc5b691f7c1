"""Finds what is wrong with a mesh, or notable. Changes nothing."""

from tinsnip.survey.examination import Examination, examine
from tinsnip.survey.finding import Finding, Kind
from tinsnip.survey.readiness import Readiness

__all__ = ["Examination", "Finding", "Kind", "Readiness", "examine"]
