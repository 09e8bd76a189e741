"""Drawing the stage with QPainter, where no OpenGL context can be had."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPen, QPolygonF

from ...core.scene.camera import project
from ...rendering import palette
from .. import theme


class PainterRenderer:
    """The same figures as flat spindles over a grid of lines."""

    def describe(self):
        """What draws, in a few words."""
        return "drawn without OpenGL"

    def begin(self, size, pose, figures, lines=(), fine=False):
        """As ``Renderer.begin``; drawn at once."""
        picture = self.draw(size, pose, figures, lines, fine)
        return lambda: picture

    def draw(self, size, pose, figures, lines=(), fine=False):
        """As ``Renderer.draw``."""
        image = QImage(max(size[0], 2), max(size[1], 2), QImage.Format.Format_RGB32)
        image.fill(theme.colour("deep"))
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        view = pose.matrix(image.width() / image.height())
        self._floor(painter, view, image, pose)
        for figure in figures:
            self._figure(painter, view, image, figure)
        for points, tints in lines:
            self._line(painter, view, image, points, np.atleast_2d(tints)[0])
        painter.end()
        return image

    def _line(self, painter, view, image, points, tint):
        places, depth = project(view, np.asarray(points, float), image.width(), image.height())
        painter.setPen(QPen(QColor.fromRgbF(*map(float, tint)), 1.5))
        for a, b, near in zip(places, places[1:], np.minimum(depth, np.roll(depth, -1))):
            if near > 0.05:
                painter.drawLine(QPointF(*a), QPointF(*b))

    def _floor(self, painter, view, image, pose):
        painter.setPen(QPen(theme.colour("line"), 1))
        middle = np.round(np.array(pose.target))
        for i in range(-6, 7):
            for ends in (((i, -6), (i, 6)), ((-6, i), (6, i))):
                points = np.array([[middle[0] + x, 0.0, middle[2] + z] for x, z in ends])
                places, depth = project(view, points, image.width(), image.height())
                if depth.min() > 0.05:
                    painter.drawLine(QPointF(*places[0]), QPointF(*places[1]))

    def _figure(self, painter, view, image, figure):
        starts, ends = figure.segments()
        if not len(starts):
            self._dots(painter, view, image, figure)
            return
        a, depth = project(view, starts, image.width(), image.height())
        b, other = project(view, ends, image.width(), image.height())
        tint = theme.colour(figure.kind, 110 if figure.ghost or figure.faint else 255)
        self._marks(painter, view, image, starts)
        for i in np.argsort(-(depth + other)):
            if min(depth[i], other[i]) < 0.05:
                continue
            fill = theme.colour("brass") if figure.bones.start[i] in figure.chosen else tint
            way = b[i] - a[i]
            across = np.array([-way[1], way[0]]) / max(np.linalg.norm(way), 1e-6)
            thick = figure.bones.radius[i] * image.height() / (0.6 * depth[i])
            near, far = a[i] + 0.25 * way, a[i] + 0.75 * way
            shape = [
                a[i],
                near + across * thick,
                far + across * thick * 0.6,
                b[i],
                far - across * thick * 0.6,
                near - across * thick,
            ]
            painter.setPen(QPen(fill.darker(150), 1))
            painter.setBrush(QBrush(fill, Qt.BrushStyle.SolidPattern))
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in shape]))

    def _dots(self, painter, view, image, figure):
        """Points without bones, as discs."""
        places, depth = project(view, figure.placed, image.width(), image.height())
        painter.setPen(Qt.PenStyle.NoPen)
        for n, (place, far) in enumerate(zip(places, depth)):
            if far > 0.05:
                painter.setBrush(theme.colour("brass" if n in figure.chosen else palette.OF_KIND[figure.kind]))
                size = figure.bones.joint_radius[n] * image.height() / (0.6 * far)
                painter.drawEllipse(QPointF(*place), size, size)

    def _marks(self, painter, view, image, starts):
        """Marks on the ground under the lowest joints, so that contact can be read."""
        low = starts[starts[:, 1] < 0.15]
        places, depth = project(view, low * np.array([1, 0, 1]), image.width(), image.height())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(0, 0, 0, 110))
        for place, far in zip(places, depth):
            if far > 0.05:
                painter.drawEllipse(QPointF(*place), 14 / far * 3, 5 / far * 3)
