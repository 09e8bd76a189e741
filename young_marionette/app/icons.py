"""The icon set: one hand, one line width, drawn on a 24 by 24 grid."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QIcon, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer

from . import theme

_SHAPES = {
    "play": '<path d="M8 5.5v13l10.5-6.5z" fill="{c}"/>',
    "pause": '<path d="M8.5 6v12M15.5 6v12" stroke-width="3"/>',
    "back": '<path d="M16 6.5 9.5 12l6.5 5.5M7 6v12"/>',
    "forward": '<path d="M8 6.5 14.5 12 8 17.5M17 6v12"/>',
    "start": '<path d="M17 6.5 10.5 12l6.5 5.5M11 6.5 4.5 12l6.5 5.5"/>',
    "end": '<path d="m7 6.5 6.5 5.5L7 17.5M13 6.5l6.5 5.5-6.5 5.5"/>',
    "lanes": '<path d="M4 6h6M13 6h7M4 12h11M18 12h2M4 18h3M10 18h10" stroke-width="2.6"/>',
    "curve": '<path d="M4 5v15h16" stroke-width="1.4"/><path d="M5.500 17c3 0 3.500-10 6.500-10s3 7 5 7 2-4 3-5"/>',
    "clock": '<circle cx="12" cy="12" r="8"/><path d="M12 7.500V12l3 2"/>',
    "up": '<path d="m6 14.500 6-6 6 6" stroke-width="2.400"/>',
    "plus": '<path d="M12 5.500v13M5.500 12h13" stroke-width="2.200"/>',
    "loop": '<path d="M5 12a6 6 0 0 1 6-6h7m-3-3 3 3-3 3M19 12a6 6 0 0 1-6 6H6m3 3-3-3 3-3"/>',
    "undo": '<path d="M9 6 4.5 10.5 9 15M5 10.5h9a5 5 0 0 1 0 10h-3"/>',
    "redo": '<path d="m15 6 4.5 4.5L15 15M19 10.5h-9a5 5 0 0 0 0 10h3"/>',
    "open": '<path d="M3.5 18.5v-12h6l2 2.5h9v9.500z"/><path d="M12 11.500v5M9.500 14h5"/>',
    "menu": '<path d="M5 7h14M5 12h14M5 17h14"/>',
    "search": '<circle cx="10.5" cy="10.5" r="5.5"/><path d="m15 15 5 5"/>',
    "frame": '<path d="M4 8.500V4h4.500M15.500 4H20v4.500M20 15.500V20h-4.500M8.500 20H4v-4.500"/><circle cx="12" cy="12" r="2.500"/>',
    "front": '<circle cx="12" cy="6" r="2.500"/><path d="M12 9v6M6 11.500h12M12 15l-3.500 6M12 15l3.500 6"/>',
    "side": '<circle cx="12.500" cy="6" r="2.500"/><path d="M12 9v6l-2.500 6M12 15l2 3-1 3h3M12 11l3 2.500"/>',
    "top": '<circle cx="12" cy="12" r="3"/><path d="M4 12h5M15 12h5"/><path d="M10 18.500h4" />',
    "beside": '<path d="M7 4v9M4 7.500h6M7 13l-2.500 7M7 13l2.500 7M17 4v9M14 7.500h6M17 13l-2.500 7M17 13l2.500 7"/>',
    "over": '<path d="M10.500 4v9M6 7.500h9M10.500 13 8 20M10.500 13l2.500 7"/><path d="M14.500 4v9M10 8.500h9M14.500 13 12 20M14.500 13l2.500 7" stroke-dasharray="2 2"/>',
    "body": '<circle cx="12" cy="5.500" r="2.700" fill="{c}"/><path d="M8.500 10h7l-1 6h-5z" fill="{c}"/><path d="M10.500 16v5M13.500 16v5M7.500 11 5 15M16.500 11l2.500 4"/>',
    "controls": '<path d="M4 4.500h16M12 3v4" stroke-width="2.200"/><path d="M6 5v8M18 5v8M12 7v6"/><ellipse cx="12" cy="16.500" rx="6" ry="3"/>',
    "follow": '<circle cx="12" cy="12" r="3"/><path d="M12 3v4M12 17v4M3 12h4M17 12h4"/>',
    "trail": '<path d="M4 19c3-9 6-12 9-9s3 5 7-5" stroke-dasharray="3 2.500"/><circle cx="20" cy="5" r="1.500" fill="{c}"/>',
    "mirror": '<path d="M12 4v16" stroke-dasharray="2.500 2.500"/><path d="M9 7 4 17h5zM15 7l5 10h-5z"/>',
    "untie": '<path d="M4 6c4 0 5 3 6 5M20 18c-4 0-5-3-6-5M14.500 6.500l3-3M17 9l3.500-1M9.500 17.500l-3 3M7 15l-3.500 1"/>',
    "tie": '<path d="M4 6c5 0 5 12 16 12" /><circle cx="4.500" cy="6" r="1.800" fill="{c}"/><circle cx="19.500" cy="18" r="1.800" fill="{c}"/>',
    "lock": '<rect x="5" y="11" width="14" height="9" rx="2"/><path d="M8 11V8a4 4 0 0 1 8 0v3"/>',
    "close": '<path d="m7 7 10 10M17 7 7 17"/>',
    "check": '<path d="m5 12.500 4.500 4.500L19 7.500" stroke-width="3"/>',
    "snag": '<path d="M12 3.500 20.500 12 12 20.500 3.500 12z"/><path d="M12 8.500v4.500M12 15.500v.4"/>',
    "help": '<path d="M9 9a3 3 0 1 1 4.500 2.600c-1 .6-1.500 1.200-1.500 2.400M12 17.500v.4"/>',
    "down": '<path d="m6 9.500 6 6 6-6" stroke-width="2.400"/>',
    "folder": '<path d="M3.500 18.500v-12h6l2 2.500h9v9.500z"/>',
}


def _svg(name, colour):
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" fill="none" stroke="{colour}" stroke-width="1.8" '
        f'stroke-linecap="round" stroke-linejoin="round">{_SHAPES[name].replace("{c}", colour)}</svg>'
    )


@lru_cache(maxsize=256)
def pixmap(name, colour="text", size=20, ratio=2.0):
    """An icon as a picture, in a colour of the theme or ``#rrggbb``."""
    value = theme.NIGHT.get(colour, colour)
    image = QPixmap(int(size * ratio), int(size * ratio))
    image.fill(Qt.GlobalColor.transparent)
    painter = QPainter(image)
    QSvgRenderer(QByteArray(_svg(name, value).encode())).render(painter, QRectF(0, 0, size * ratio, size * ratio))
    painter.end()
    image.setDevicePixelRatio(ratio)
    return image


def icon(name, colour="text"):
    """An icon for buttons, paler while it can't be used."""
    result = QIcon(pixmap(name, colour))
    result.addPixmap(pixmap(name, "#5d6877"), QIcon.Mode.Disabled)
    return result


def style_pictures():
    """``{name: file}`` of pictures for the style sheet, which takes them from files only."""
    folder = Path(tempfile.mkdtemp(prefix="young-marionette-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    files = {}
    for name, shape, colour in (("check", "check", "#1b1608"), ("down", "down", theme.NIGHT["quiet"])):
        path = folder / f"{name}.svg"
        path.write_text(_svg(shape, colour))
        files[name] = path.as_posix()
    return files
