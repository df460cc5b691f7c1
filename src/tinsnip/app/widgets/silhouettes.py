"""Small drawings: the silhouette of a finding, to scale within its list."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF

from tinsnip.app.widgets.theme import MUTED, OCHRE, RUST, VIOLET
from tinsnip.survey import Finding, Kind

__all__ = ["colour_of", "draw_silhouette"]


def colour_of(kind: Kind) -> QColor:
    """The colour of a kind of finding; always beside a letter and a shape."""
    own = {
        Kind.HOLE: VIOLET, Kind.RIM: MUTED, Kind.BED: MUTED, Kind.RAGGED: MUTED, Kind.VOID: RUST,
        Kind.TANGLE: QColor("#8c2f5a"), Kind.CROSSING: QColor("#a33a1d"),
    }  # fmt: skip
    return own.get(kind, OCHRE)


def _flat(points: np.ndarray) -> np.ndarray:
    """Points seen along their thinnest direction, longest across."""
    centred = points - points.mean(axis=0)
    _, _, axes = np.linalg.svd(centred[:: max(1, len(centred) // 300)], full_matrices=False)
    return centred @ axes[:2].T


def _hull(points: np.ndarray) -> np.ndarray:
    """Convex outline of flat points, by the angle of support."""
    angles = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    ways = np.column_stack([np.cos(angles), np.sin(angles)])
    return points[np.argmax(points @ ways.T, axis=0)]


def draw_silhouette(painter: QPainter, box: QRectF, finding: Finding, largest: float) -> None:
    """Draw a finding's silhouette; the largest of its list fills the box."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colour = colour_of(finding.kind)
    if finding.kind.facts.drawn == "points":
        pen = QPen(colour, 1.6)
        painter.setPen(pen)
        c, r = box.center(), box.height() * 0.36
        for angle in (90, 210, 330):
            a = np.radians(angle)
            painter.drawLine(c, QPointF(c.x() + r * np.cos(a), c.y() - r * np.sin(a)))
        painter.restore()
        return
    flat = _flat(finding.outline) if len(finding.outline) > 2 else np.zeros((1, 2))
    extent = max(float(np.ptp(flat, axis=0).max()), 1e-12)
    own = extent / max(largest, extent)
    # lengths on a square-root scale: to scale, yet the smallest still shows a shape
    reach = max(0.22, own**0.5) * min(box.height(), box.width()) * 0.92
    shape = flat if finding.kind.facts.drawn == "ring" else _hull(flat)
    shape = shape[:: max(1, len(shape) // 120)] / extent * reach
    polygon = QPolygonF([QPointF(box.center().x() + x, box.center().y() - y) for x, y in shape])
    pen = QPen(colour, 1.3)
    if finding.kind is Kind.RIM:
        pen.setStyle(Qt.PenStyle.DashLine)
        painter.setBrush(Qt.BrushStyle.NoBrush)
    else:
        fill = QColor(colour)
        fill.setAlpha(60 if finding.kind is Kind.HOLE else 150)
        style = Qt.BrushStyle.BDiagPattern if finding.kind is Kind.VOID else Qt.BrushStyle.SolidPattern
        painter.setBrush(QBrush(fill, style))
    painter.setPen(pen)
    painter.drawPolygon(polygon)
    painter.restore()
