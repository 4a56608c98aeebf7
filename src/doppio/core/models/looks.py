"""What a picture looks like, in numbers that need no training: one vector for its whole, and many for its points.

References
----------
.. [1] D. Lowe, "Distinctive Image Features from Scale-Invariant Keypoints", IJCV 2004: the points.
.. [2] R. Arandjelović, A. Zisserman, "Three things everyone should know to improve object retrieval", CVPR 2012:
   roots of their numbers are compared.
.. [3] N. Dalal, B. Triggs, "Histograms of Oriented Gradients for Human Detection", CVPR 2005.
"""

import io
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

# It goes up when the same picture gets other numbers.
VERSION = 1
# Pictures are looked at in this size, in pixels of the longer side, and have at most so many points of 128 numbers:
# at twice the size one that was made smaller had other points.
SIDE, MOST_POINTS, NUMBERS = 256, 200, 128
# Below this contrast a point is one of the paper's grain.
LEAST_CONTRAST = 0.01
# Sides of what is kept to lay two pictures over one another.
SMALL = 128
_GRID, _ANGLES, _COLOURS, _TABLES, _BITS = 4, 8, 4, 2, 7
LOOK = _GRID * _GRID * _ANGLES + _COLOURS**3 + 3 * _GRID * _GRID + _TABLES * 2**_BITS + 6
_SEED = 20_041

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Look:
    """A picture in numbers.

    whole : (LOOK,) float32, of unit length: where its edges run, its colours, what its points are like
    points : (p, 128) float32, of unit length, the strongest first; none for a picture without any edge
    places : (p, 2) float32, across and down, in sides: the longer side is 1
    small : (SMALL, SMALL) uint8, how strong its edges are where, its longer side the whole width; nothing below or
        beside it
    shape : height and width of what `small` shows, in sides
    """

    whole: Floats
    points: Floats
    places: Floats
    small: NDArray[np.uint8]
    shape: tuple[float, float]


def look(drawn: bytes) -> Look:
    """Look at a picture, PNG or JPEG.

    Raises
    ------
    OSError
        If it is none.
    """
    with Image.open(io.BytesIO(drawn), formats=("PNG", "JPEG", "WEBP")) as picture:
        shown = picture.convert("RGB")
    wide, high = shown.size
    scale = SIDE / max(wide, high)
    # Small ones are made larger: points are found at sizes in pixels.
    shown = shown.resize((max(16, round(wide * scale)), max(16, round(high * scale))), Image.Resampling.BILINEAR)
    colours = np.asarray(shown, np.float32) / 255.0
    grey = colours @ np.array([0.299, 0.587, 0.114], np.float32)
    points, places = _points(grey)
    parts = [_edges(grey), _colours(colours), _means(colours), _kinds(points), _plain(grey, wide / high)]
    whole = np.concatenate([part / max(float(np.linalg.norm(part)), 1e-9) for part in parts])
    shape = shown.height / SIDE, shown.width / SIDE
    return Look((whole / np.linalg.norm(whole)).astype(np.float32), points, places, _small(shown), shape)


def _small(shown: Image.Image) -> NDArray[np.uint8]:
    """Strengths of edges, a little blurred: much the same whatever colours became of a picture."""
    scale = SMALL / max(shown.size)
    size = max(2, round(shown.width * scale)), max(2, round(shown.height * scale))
    grey = np.asarray(shown.convert("L").resize(size, Image.Resampling.BOX), np.float32)
    padded = np.pad(np.hypot(*np.gradient(grey)), 1, mode="edge")
    rows = padded[:-2] + padded[1:-1] + padded[2:]
    strength = rows[:, :-2] + rows[:, 1:-1] + rows[:, 2:]
    found = np.zeros((SMALL, SMALL), np.uint8)
    found[: size[1], : size[0]] = np.clip(strength / 4, 0, 255)
    return found


@cache
def _finder() -> Any:
    import cv2

    cv2.setNumThreads(1)
    made: Any = cv2
    return made.SIFT_create(nfeatures=MOST_POINTS, contrastThreshold=LEAST_CONTRAST)


def _points(grey: Floats) -> tuple[Floats, Floats]:
    spots, found = _finder().detectAndCompute((grey * 255).astype(np.uint8), None)
    if found is None:
        return np.empty((0, NUMBERS), np.float32), np.empty((0, 2), np.float32)
    strongest = np.argsort([-spot.response for spot in spots], kind="stable")[:MOST_POINTS]
    # Roots of numbers that add up to one are of unit length.
    found = np.sqrt(found[strongest] / np.maximum(found[strongest].sum(axis=1, keepdims=True), 1e-9))
    places = np.array([spots[at].pt for at in strongest], np.float32).reshape(-1, 2) / np.float32(SIDE)
    return np.ascontiguousarray(found, np.float32), places


def _edges(grey: Floats) -> Floats:
    down, across = np.gradient(grey)
    strength = np.hypot(across, down)
    angle = ((np.arctan2(down, across) % np.pi) / np.pi * _ANGLES).astype(np.int64) % _ANGLES
    cells = _cells(grey.shape)
    counted = np.bincount((cells * _ANGLES + angle).ravel(), strength.ravel(), _GRID * _GRID * _ANGLES)
    return np.asarray(np.sqrt(counted), np.float32)


def _cells(shape: tuple[int, ...]) -> NDArray[np.int64]:
    rows, columns = (np.arange(side) * _GRID // side for side in shape[:2])
    return np.asarray(rows[:, None] * _GRID + columns[None, :])


def _colours(colours: Floats) -> Floats:
    levels = np.minimum((colours * _COLOURS).astype(np.int64), _COLOURS - 1)
    named = (levels[..., 0] * _COLOURS + levels[..., 1]) * _COLOURS + levels[..., 2]
    # Paper is most of a drawing; roots let the rest be seen.
    return np.sqrt(np.bincount(named.ravel(), minlength=_COLOURS**3) / named.size).astype(np.float32)


def _means(colours: Floats) -> Floats:
    cells = _cells(colours.shape).ravel()
    counts = np.maximum(np.bincount(cells, minlength=_GRID * _GRID), 1)
    sums = [np.bincount(cells, colours[..., band].ravel(), _GRID * _GRID) / counts for band in range(3)]
    return np.concatenate(sums).astype(np.float32)


@cache
def _planes() -> Floats:
    """Planes that part points into kinds; which ones does not matter, only that they are always the same."""
    return np.random.default_rng(_SEED).standard_normal((_TABLES * _BITS, NUMBERS)).astype(np.float32)


def _kinds(points: Floats) -> Floats:
    """How many points are of each kind: those on the same sides of some planes through their mean."""
    found = np.zeros((_TABLES, 2**_BITS), np.float32)
    if len(points):
        sides = (points - np.float32(1 / np.sqrt(NUMBERS))) @ _planes().T > 0
        for table in range(_TABLES):
            bits = sides[:, table * _BITS : (table + 1) * _BITS] @ (1 << np.arange(_BITS))
            found[table] = np.bincount(bits, minlength=2**_BITS)
    return np.sqrt(found.ravel())


def _plain(grey: Floats, shape: float) -> Floats:
    """How much of it is paper and ink, how rough it is, how it is shaped."""
    rough = float(np.abs(np.diff(grey, axis=0)).mean() + np.abs(np.diff(grey, axis=1)).mean())
    told = [(grey > 0.94).mean(), (grey < 0.2).mean(), rough * 4, grey.mean(), grey.std(), np.arctan(shape)]
    return np.array(told, np.float32)
