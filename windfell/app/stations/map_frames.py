"""Frames as the overlap map shows them: their outlines, and their pictures bent as they lie there."""

from __future__ import annotations

from collections.abc import Mapping

import cv2
import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage

from windfell.align.registration import Placed
from windfell.app.stations.parallax_map import on_map
from windfell.geometry.projections import PROJECTIONS

Array = NDArray[np.float64]

STEP = 8
TURN = 2 * np.pi


def outlines(frames: Mapping[int, Placed]) -> dict[int, Array]:
    """The closed outline (m, 2) of each frame: (longitude, latitude) in rad on the unrolled sphere, or spots of the
    flat subject. A frame that looks at the zenith or the nadir reaches along all of the map's edge there; one that
    lies nowhere on the map has none.
    """
    borders = {n: b for n, f in frames.items() if len(b := _border(f)) > 2}
    whole = {n for n, b in borders.items() if frames[n].place is None and abs(b[-1, 0] - b[0, 0]) > np.pi}
    others = [border for n, border in borders.items() if n not in whole]
    middle = 0.0
    if others:
        every = np.concatenate(others)
        middle = (every[:, 0].min() + every[:, 0].max()) / 2
    return {n: _to_the_edge(b, middle) if n in whole else b for n, b in borders.items()}


def middle_of(frame: Placed, outline: Array) -> Array:
    """(2,) where the frame's own middle lies; with a pole in it, midway along the map's edge."""
    middle = on_map(frame, np.array([[frame.lens.width / 2, frame.lens.height / 2]]))[0]
    if frame.place is None and is_around(outline):
        middle[0] = (outline[:, 0].min() + outline[:, 0].max()) / 2
    return middle


def is_around(outline: Array) -> bool:
    """Whether an outline on the unrolled sphere reaches all the way around."""
    return bool(np.ptp(outline[:, 0]) > TURN - 1e-6)


def _border(frame: Placed) -> Array:
    """The frame's border, unwrapped along it; around a pole its ends lie a turn apart."""
    plane = on_map(frame, frame.lens.border(10))
    plane = plane[np.isfinite(plane).all(axis=1)]
    if frame.place is not None or not len(plane):
        return plane
    plane = np.concatenate([plane, plane[:1]])
    plane[:, 0] = np.unwrap(plane[:, 0])
    plane[:, 0] -= TURN * np.round(plane[:, 0].mean() / TURN)
    return plane


def _to_the_edge(border: Array, middle: float) -> Array:
    """The outline of a frame with a pole in it, on the turn of the map around `middle`."""
    x = (border[:-1, 0] - middle + np.pi) % TURN
    order = np.argsort(x)
    x, y = x[order], border[:-1, 1][order]
    at_edge = np.interp(0.0, [x[-1] - TURN, x[0]], [y[-1], y[0]])
    left, right, pole = middle - np.pi, middle + np.pi, np.pi / 2 * np.sign(y.mean())
    line = np.stack([x + left, y], axis=1)
    return np.concatenate([[[left, at_edge]], line, [[right, at_edge], [right, pole], [left, pole]]])


def picture_on_map(frame: Placed, image: QImage, outline: Array, scale: float, offset: Array) -> tuple[QImage, Array]:
    """(picture, its upper left corner (2,)) of a frame in the map's px, where `scale` and `offset` lead to.

    `image`: the frame's, at any size. What the frame does not show is transparent.
    """
    low = np.floor(outline.min(axis=0) * scale + offset).astype(int)
    size = np.maximum(np.ceil(outline.max(axis=0) * scale + offset).astype(int) - low, 1)
    nodes = [np.arange(0, n + STEP, STEP) for n in size]
    spots = (np.stack(np.meshgrid(*nodes), axis=-1) + low + 0.5 - offset) / scale
    source = frame.posed.project(_rays(frame, spots))
    source = (source + 0.5) * [image.width() / frame.lens.width, image.height() / frame.lens.height] - 0.5
    source = np.nan_to_num(source, nan=-1e4).clip(-1e4, 1e4).astype(np.float32)
    x, y = (np.arange(n, dtype=np.float32) / STEP for n in size)
    dense = cv2.remap(source, *np.meshgrid(x, y), cv2.INTER_LINEAR)
    colours = _pixels(image)
    seen = cv2.remap(colours, dense, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    inside = np.all((dense > -0.5) & (dense < [colours.shape[1] - 0.5, colours.shape[0] - 0.5]), axis=-1)
    seen[~inside] = 0
    seen = np.ascontiguousarray(seen)
    return QImage(seen.data, *(int(n) for n in size), seen.strides[0], QImage.Format.Format_RGBA8888).copy(), low


def _rays(frame: Placed, spots: Array) -> Array:
    if frame.place is not None:
        return np.concatenate([spots, np.ones((*spots.shape[:-1], 1))], axis=-1)
    return PROJECTIONS["equirectangular"].backward(spots)


def _pixels(image: QImage) -> NDArray[np.uint8]:
    """(h, w, 4) RGBA."""
    image = image.convertToFormat(QImage.Format.Format_RGBA8888)
    lines = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return lines[:, : 4 * image.width()].reshape(image.height(), image.width(), 4).copy()
