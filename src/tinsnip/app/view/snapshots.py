"""Small pictures beside the view: of a place of the part, and of a piece that is looked at by itself."""

import copy

import numpy as np
from PySide6.QtGui import QImage

from tinsnip.app.view.camera import Camera
from tinsnip.app.view.viewport import Viewport

__all__ = ["picture_aside", "picture_round"]


def picture_round(view: Viewport, points: np.ndarray, width: int, height: int) -> QImage:
    """A small picture of what lies round some points, seen from where the view looks.

    Parameters
    ----------
    view : Viewport
    points : ndarray, shape (N, 3)
        In mm.
    width, height : int
        In pixels.
    """
    camera = copy.copy(view.camera)
    camera.width, camera.height = width, height
    camera.fit(points, np.stack([points.min(axis=0), points.max(axis=0)]))
    camera.scale = max(2.5 * camera.scale, 1e-3 * camera.reach)  # with enough round it to know it again
    view.makeCurrent()
    pixels = view.scene.picture(camera, width, height)
    view.redraw()
    return QImage(pixels.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def picture_aside(view: Viewport, camera: Camera) -> QImage | None:
    """A picture of the piece that was set aside, as large as its camera's view; None until it can be drawn.

    Parameters
    ----------
    view : Viewport
    camera : Camera
    """
    if view.scene is None:
        return None
    ratio = view.devicePixelRatioF()
    width, height = round(camera.width * ratio), round(camera.height * ratio)
    view.makeCurrent()
    pixels = view.scene.picture_aside(camera, width, height)
    if pixels is None:
        return None
    view.redraw()
    image = QImage(pixels.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
    image.setDevicePixelRatio(ratio)
    return image
