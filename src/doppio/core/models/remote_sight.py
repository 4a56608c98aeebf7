"""Pictures to vectors behind an HTTP endpoint.

`POST {url}/see` takes `{"format": "doppio-see/1", "pictures": ["...", ...]}`, PNG or JPEG in base64, and answers with
`{"vectors": [[...], ...]}`, one for each; where the endpoint's `/model` says a grid, rows and columns, also with
`"patches": [[[...], ...], ...]`, row by row. It gets pictures as they are, and brings them to its own size; where the
grid reaches beyond them, `"covered": [[0.8, 1.0], ...]` says which share of its breadth and height each covers.
"""

import base64
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.errors import ModelFolderError, RemoteError
from doppio.core.models.remote_endpoint import Endpoint
from doppio.core.models.sight import BATCH, MOST_GRID, Laid, Seen, seen_of

SEE_FORMAT = "doppio-see/1"


class RemoteSight:
    """The half of a remote encoder that reads pictures."""

    def __init__(self, endpoint: Endpoint, grid: tuple[int, int] | None, dimension: int) -> None:
        self.grid = grid
        self._endpoint, self._dimension = endpoint, dimension

    def see(self, pictures: Sequence[bytes]) -> Iterator[Seen]:
        who = f"{self._endpoint.url}/see"
        for first in range(0, len(pictures), BATCH):
            batch = [base64.b64encode(drawn).decode() for drawn in pictures[first : first + BATCH]]
            body = self._endpoint.ask("POST", "/see", {"format": SEE_FORMAT, "pictures": batch})
            try:
                vectors, patches = np.array(body["vectors"], np.float32), body.get("patches") if self.grid else None
                patches = None if patches is None else np.array(patches, np.float32)
                laid = (
                    [
                        Laid(*self.grid, float(right), float(bottom))
                        for right, bottom in body.get("covered", [[1, 1]] * len(batch))
                    ]
                    if self.grid
                    else []
                )
            except (KeyError, ValueError, TypeError) as error:
                raise RemoteError(f"{who}: `vectors`, `patches` or `covered` is missing or not numbers") from error
            if self.grid and patches is None:
                raise RemoteError(f"{who}: `patches` is missing; /model says that there are {self.grid}")
            if self.grid and (
                len(laid) != len(batch) or not all(0 < own.right <= 1 >= own.bottom > 0 for own in laid)
            ):
                raise RemoteError(
                    f"{who}: `covered` is not two shares above 0 to 1 for each of {len(batch)} pictures"
                )
            try:
                yield seen_of(who, np.arange(first, first + len(batch)), vectors, patches, laid, self._dimension)
            except ModelFolderError as error:
                raise RemoteError(str(error)) from error


def seeing_of(said: Mapping[str, Any], url: str) -> dict[str, Any]:
    """What an endpoint's `/model` says of pictures, as settings of its folder.

    Raises
    ------
    ModelFolderError
        If it says it in another way.
    """
    told = said.get("pictures")
    if told is None:
        return {}
    grid = told.get("grid") if isinstance(told, Mapping) else ""
    whole = isinstance(grid, list) and all(type(one) is int and 1 <= one <= MOST_GRID for one in grid)
    if grid is not None and not (whole and len(grid) == 2):
        raise ModelFolderError(
            f"{url}/model: pictures: {told!r} is not an object with a `grid`, rows and columns, 1 to {MOST_GRID}, or "
            "null where it gives one vector a picture"
        )
    return {"sees": True, "grid": grid}
