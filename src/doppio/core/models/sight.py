"""The half of an encoder that reads pictures: vectors in the space of its words, one a picture or one a patch.

The manifest of an encoder's folder says how pictures are brought to the graph, under `pictures`: `size`, height and
width in pixels; `mean` and `deviation` of red, green and blue, 0 to 1, by which they are standardised; `fit`, whether
they are squeezed to the size or keep their shape and are padded to the right and below; and `grid`, rows and columns
of patches, where the graph gives one vector for each.
"""

import io
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from doppio.core.errors import DoppioError, ModelFolderError
from doppio.core.models.session import open_session

PICTURE_GRAPH = "pictures.onnx"
SQUEEZED, PADDED = "squeezed", "padded"
FITS = (SQUEEZED, PADDED)
MOST_SIDE, MOST_GRID = 4096, 128
BATCH = 8
_BANDS = 3

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Laid:
    """Where the patches of a picture lie.

    rows, columns : of the grid
    right, bottom : how much of the grid's breadth and height the picture covers, above 0 to 1
    """

    rows: int
    columns: int
    right: float = 1.0
    bottom: float = 1.0

    def cells(self) -> NDArray[np.int64]:
        """Cells, row by row, whose middle lies on the picture."""
        rows = (np.arange(self.rows) + 0.5) / self.rows < self.bottom
        columns = (np.arange(self.columns) + 0.5) / self.columns < self.right
        return np.flatnonzero((rows[:, None] & columns[None, :]).ravel())

    def places(self, cells: NDArray[np.int64]) -> NDArray[np.float64]:
        """Left, top, right and bottom of cells as shares of the picture: (p, 4)."""
        row, column = np.divmod(cells, self.columns)
        across, down = 1 / (self.columns * self.right), 1 / (self.rows * self.bottom)
        edges = np.stack([column * across, row * down, (column + 1) * across, (row + 1) * down], axis=1)
        return np.minimum(edges, 1.0)


@dataclass(frozen=True)
class Seen:
    """Encodings of a batch of pictures.

    place : (m,) int64, positions of the pictures in what was given
    vectors : (m, d) float32, of unit length, of whole pictures
    patches : list of m (p_i, d) float32 arrays, of unit length; none where the encoder has no grid
    cells : list of m (p_i,) int64 arrays, the cell of the grid that each patch is
    laid : where these lie, of each picture
    """

    place: NDArray[np.int64]
    vectors: Floats
    patches: list[Floats]
    cells: list[NDArray[np.int64]]
    laid: list[Laid]

    def whole_grids(self) -> list[Floats]:
        """Patches of each picture, (rows * columns, d) float32; zeros where a cell lies beside the picture."""
        found = []
        for rows, cells, laid in zip(self.patches, self.cells, self.laid, strict=True):
            whole = np.zeros((laid.rows * laid.columns, rows.shape[1]), np.float32)
            whole[cells] = rows
            found.append(whole)
        return found


class Sight(Protocol):
    """Turns pictures into vectors.

    grid : rows and columns of its patches; None where it gives one vector a picture
    """

    @property
    def grid(self) -> tuple[int, int] | None: ...

    def see(self, pictures: Sequence[bytes]) -> Iterator[Seen]:
        """Encode pictures, PNG or JPEG, in batches.

        Raises
        ------
        DoppioError
            If one cannot be read, or the encoder gives something else than it says.
        """


@dataclass(frozen=True)
class Prepared:
    """How pictures are brought to a graph: see the module.

    size : height and width, in pixels
    """

    size: tuple[int, int]
    mean: tuple[float, ...] = (0.5,) * _BANDS
    deviation: tuple[float, ...] = (0.5,) * _BANDS
    fit: str = SQUEEZED
    grid: tuple[int, int] | None = None

    def pixels(self, drawn: bytes) -> tuple[Floats, Laid | None]:
        """A picture as the graph wants it, (3, height, width) float32, and where its patches lie."""
        high, wide = self.size
        try:
            with Image.open(io.BytesIO(drawn), formats=("PNG", "JPEG")) as picture:
                shown = picture.convert("RGB")
        except OSError as error:
            raise DoppioError(f"a picture that cannot be read ({error})") from error
        scale = min(wide / shown.width, high / shown.height)
        size = (wide, high) if self.fit == SQUEEZED else (
            max(1, round(shown.width * scale)), max(1, round(shown.height * scale))
        )  # fmt: skip
        found = np.zeros((_BANDS, high, wide), np.float32)
        colours = np.asarray(shown.resize(size, Image.Resampling.BICUBIC), np.float32) / 255.0
        standard = (colours - np.array(self.mean, np.float32)) / np.array(self.deviation, np.float32)
        found[:, : size[1], : size[0]] = standard.transpose(2, 0, 1)
        return found, Laid(*self.grid, size[0] / wide, size[1] / high) if self.grid else None


def prepared_by(told: Any, where: Path) -> Prepared | None:
    """What a manifest says under `pictures`; None where it says nothing.

    Raises
    ------
    ModelFolderError
        If a field is missing or wrong; the message names it.
    """
    if told is None:
        return None
    if not isinstance(told, Mapping):
        raise ModelFolderError(f"{where}: pictures: {told!r} is not an object")

    def wrong(field: str, wanted: str) -> ModelFolderError:
        return ModelFolderError(f"{where}: pictures.{field}: {told.get(field)!r} is not {wanted}")

    unknown = set(told) - {"size", "mean", "deviation", "fit", "grid"}
    if unknown:
        raise ModelFolderError(f"{where}: pictures.{min(unknown)}: is not known; {', '.join(_KNOWN)} are")
    size = _sides(told.get("size"), MOST_SIDE)
    if size is None:
        raise wrong("size", f"height and width in pixels, 1 to {MOST_SIDE:,} each")
    grid = None if told.get("grid") is None else _sides(told["grid"], MOST_GRID)
    if told.get("grid") is not None and grid is None:
        raise wrong("grid", f"rows and columns, 1 to {MOST_GRID} each")
    bands = {}
    for field in ("mean", "deviation"):
        numbers = told.get(field, [0.5] * _BANDS)
        finite = isinstance(numbers, list) and all(
            isinstance(one, int | float) and math.isfinite(one) for one in numbers
        )
        if not finite or len(numbers) != _BANDS or (field == "deviation" and min(numbers) <= 0):
            above = " above 0" if field == "deviation" else ""
            raise wrong(field, f"three numbers{above}, of red, green and blue")
        bands[field] = tuple(float(one) for one in numbers)
    fit = told.get("fit", SQUEEZED)
    if fit not in FITS:
        raise wrong("fit", f"one of {', '.join(FITS)}")
    return Prepared(size, bands["mean"], bands["deviation"], fit, grid)


_KNOWN = ("size", "mean", "deviation", "fit", "grid")


def _sides(told: Any, most: int) -> tuple[int, int] | None:
    whole = isinstance(told, list) and all(type(one) is int and 1 <= one <= most for one in told)
    return (told[0], told[1]) if whole and len(told) == 2 else None


class GraphSight:
    """A graph of pixels in a model folder; safe to use from several threads."""

    def __init__(self, path: Path, prepared: Prepared, dimension: int, threads: int | None = None) -> None:
        self._path, self._prepared, self._dimension = path, prepared, dimension
        try:
            self._session = open_session(path, threads)
        except Exception as error:
            raise ModelFolderError(f"{path}: cannot be loaded ({error})") from error
        inputs = self._session.get_inputs()
        if len(inputs) != 1 or len(inputs[0].shape) != 4:
            told = ", ".join(f"{one.name} of {len(one.shape)} axes" for one in inputs)
            raise ModelFolderError(
                f"{path}: inputs are {told}; one of pixels is wanted, pictures x 3 x height x width"
            )
        self._input = inputs[0].name
        ranks = {given.name: len(given.shape) for given in self._session.get_outputs()}
        self._whole = next((name for name, rank in ranks.items() if rank == 2), None)
        self._patches = next((name for name, rank in ranks.items() if rank == 3), None)
        if prepared.grid and self._patches is None:
            raise ModelFolderError(f"{path}: no output gives one vector a patch, as pictures.grid says")
        if not prepared.grid and self._whole is None:
            raise ModelFolderError(
                f"{path}: no output gives one vector a picture; where it gives patches, say the grid"
            )

    @property
    def grid(self) -> tuple[int, int] | None:
        return self._prepared.grid

    def see(self, pictures: Sequence[bytes]) -> Iterator[Seen]:
        for first in range(0, len(pictures), BATCH):
            batch = [self._prepared.pixels(drawn) for drawn in pictures[first : first + BATCH]]
            place = np.arange(first, first + len(batch))
            wanted = [name for name in (self._whole, self._patches if self.grid else None) if name]
            pixels = np.stack([own for own, _ in batch])
            found = dict(zip(wanted, self._session.run(wanted, {self._input: pixels}), strict=True))
            laid = [own for _, own in batch if own is not None]
            patches = found.get(self._patches) if self._patches else None
            yield seen_of(str(self._path), place, found.get(self._whole or ""), patches, laid, self._dimension)


def seen_of(who: str, place: NDArray[np.int64], whole: Any, patches: Any, laid: list[Laid], dimension: int) -> Seen:
    """What an encoder gave for some pictures, looked at and brought to unit length.

    Parameters
    ----------
    whole : (m, d) array or None
        Where it is None the mean of the patches is taken.
    patches : (m, rows * columns, d) array or None
    laid : m, where the encoder has a grid; else none

    Raises
    ------
    ModelFolderError
        If these have another shape than the encoder says, or a number is not finite; names `who`.
    """
    count = len(place)
    each: list[Floats] = []
    cells: list[NDArray[np.int64]] = []
    if laid:
        given = np.asarray(patches, np.float32)
        due = (count, laid[0].rows * laid[0].columns)
        if given.ndim != 3 or given.shape[:2] != due or given.shape[2] < dimension or not np.isfinite(given).all():
            raise ModelFolderError(
                f"{who}: patches of shape {given.shape}; {due[0]} x {due[1]} x {dimension} finite numbers were due"
            )
        cells = [own.cells() for own in laid]
        each = [_unit(rows[own, :dimension]) for rows, own in zip(given, cells, strict=True)]
    vectors = (
        np.array([own.mean(axis=0) for own in each], np.float32) if whole is None else np.asarray(whole, np.float32)
    )
    if vectors.ndim != 2 or len(vectors) != count or vectors.shape[1] < dimension or not np.isfinite(vectors).all():
        raise ModelFolderError(
            f"{who}: {count} pictures gave vectors of shape {vectors.shape}; {count} x {dimension} finite numbers "
            "were due"
        )
    return Seen(place, _unit(vectors[:, :dimension]), each, cells, laid)


def _unit(rows: Floats) -> Floats:
    found: Floats = rows / np.maximum(np.linalg.norm(rows, axis=-1, keepdims=True), 1e-9)
    return found
