"""An encoder or a joint scorer behind an HTTP endpoint, by a small protocol of our own.

`GET {url}/model` answers with `name`, `version`, `dimension`, `max_tokens`, `unit` and `made_for`.
`POST {url}/encode` takes `{"format": "doppio-encode/1", "as": "question" or "passage", "texts": [...]}` and answers
with `{"vectors": [[...], ...]}`, one for each text. One whose `/model` says `"tokens": true` may be sent
`"tokens": true` besides, and answers with `"tokens": [[[...], ...], ...]`, a vector for each token of each text, and
`"words": [["...", ...], ...]`, what these look like. What it says of pictures is in `remote_sight`.

A scorer's `/model` has `"kind": "scorer"`, `name`, `version` and `measure`; `POST {url}/score` takes
`{"format": "doppio-score/1", "question": "...", "passages": [...]}` and answers with `{"scores": [...]}`, larger is
better. A key goes along as `Authorization: Bearer KEY`.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import ModelFolderError, RemoteError
from doppio.core.models.cross_encoder import MEASURES
from doppio.core.models.encoder import AskedTokens, Encoded
from doppio.core.models.folder import REMOTE, ModelFolder, checked_name, drafted, open_folder, write_manifest
from doppio.core.models.joint import Passage, Scored
from doppio.core.models.remote_endpoint import KEY_FILE, Endpoint, endpoint_of
from doppio.core.models.remote_sight import RemoteSight, seeing_of
from doppio.core.models.scorer_folder import NO_ACTIVATION, REMOTE_SCORER, ScorerFolder, open_scorer_folder
from doppio.core.models.text_folder import TEXTS, TextFolder, open_text_folder

FORMAT = "doppio-encode/1"
SCORE_FORMAT = "doppio-score/1"
BATCH = 64


class RemoteEncoder:
    """An encoder that an endpoint runs; texts go out in batches."""

    def __init__(self, folder: ModelFolder) -> None:
        self.folder = folder
        self.name, self.title, self.digest = folder.name, folder.title, folder.digest
        self.dimension, self.unit, self.warning = folder.dimension, folder.unit, folder.warning
        self.max_tokens = folder.max_tokens
        settings = folder.settings or {}
        self.price = float(settings.get("price", 0.0))
        self._endpoint, self._batch = _endpoint(folder.path, settings)
        self.gives_tokens = bool(settings.get("tokens"))
        grid = tuple(settings["grid"]) if settings.get("grid") else None
        self.sight = RemoteSight(self._endpoint, grid, self.dimension) if settings.get("sees") else None

    def questions(self, texts: Sequence[str]) -> NDArray[np.float32]:
        parts = [vectors for _, vectors in self._vectors(texts, "question")]
        return np.concatenate([np.empty((0, self.dimension), np.float32), *parts])

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        for place, vectors in self._vectors(texts, "passage"):
            yield Encoded(place, vectors, None, None)

    def asked_tokens(self, text: str) -> AskedTokens:
        sent = {"format": FORMAT, "as": "question", "texts": [text], "tokens": True}
        body = self._endpoint.ask("POST", "/encode", sent)
        try:
            vectors, (words,) = np.array(body["tokens"][0], np.float32), body["words"]
            told = [str(word) for word in words]
        except (KeyError, IndexError, ValueError, TypeError) as error:
            raise RemoteError(f"{self._endpoint.url}/encode: `tokens` or `words` is missing or wrong") from error
        if not told:
            return AskedTokens(np.empty((0, self.dimension), np.float32), [])
        if vectors.shape != (len(told), self.dimension) or not np.isfinite(vectors).all():
            raise RemoteError(
                f"{self._endpoint.url}/encode: {len(told)} words, and vectors of tokens of shape {vectors.shape}; "
                f"{len(told)} x {self.dimension} finite numbers were due"
            )
        return AskedTokens(vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-9), told)

    def _vectors(self, texts: Sequence[str], kind: str) -> Iterator[tuple[NDArray[np.int64], NDArray[np.float32]]]:
        for first in range(0, len(texts), self._batch):
            batch = list(texts[first : first + self._batch])
            body = self._endpoint.ask("POST", "/encode", {"format": FORMAT, "as": kind, "texts": batch})
            try:
                vectors = np.array(body["vectors"], np.float32)
            except (KeyError, ValueError, TypeError) as error:
                raise RemoteError(f"{self._endpoint.url}/encode: `vectors` is missing or not numbers") from error
            if vectors.shape != (len(batch), self.dimension) or not np.isfinite(vectors).all():
                raise RemoteError(
                    f"{self._endpoint.url}/encode: {len(batch)} texts gave vectors of shape {vectors.shape}; "
                    f"{len(batch)} x {self.dimension} finite numbers were due"
                )
            yield np.arange(first, first + len(batch)), vectors


class RemoteScorer:
    """A joint scorer that an endpoint runs; passages go out in batches, the same one only once."""

    def __init__(self, folder: ScorerFolder) -> None:
        self.folder = folder
        self.name, self.title, self.digest = folder.name, folder.title, folder.digest
        self.measure = str((folder.settings or {}).get("measure", MEASURES[NO_ACTIVATION]))
        self.calibration, self.blend = folder.calibration, folder.blend
        self.price = float((folder.settings or {}).get("price", 0.0))
        self._endpoint, self._batch = _endpoint(folder.path, folder.settings or {})

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        texts = list(dict.fromkeys(passage.text for passage in passages))
        found: dict[str, float] = {}
        for first in range(0, len(texts), self._batch):
            batch = texts[first : first + self._batch]
            sent = {"format": SCORE_FORMAT, "question": question, "passages": batch}
            body = self._endpoint.ask("POST", "/score", sent)
            try:
                scores = np.array(body["scores"], np.float32)
            except (KeyError, ValueError, TypeError) as error:
                raise RemoteError(f"{self._endpoint.url}/score: `scores` is missing or not numbers") from error
            if scores.shape != (len(batch),) or not np.isfinite(scores).all():
                raise RemoteError(
                    f"{self._endpoint.url}/score: {len(batch)} passages gave scores of shape {scores.shape}; "
                    f"{len(batch)} finite numbers were due"
                )
            found |= zip(batch, scores.tolist(), strict=True)
        scores = np.array([found[passage.text] for passage in passages], np.float32)
        return Scored(scores, (None,) * len(passages))


def _endpoint(folder: Path, settings: Mapping[str, Any]) -> tuple[Endpoint, int]:
    """The same, and how many texts go out at once."""
    return endpoint_of(folder, settings), int(settings.get("batch", BATCH))


# What an endpoint may say that it is, what its folder says then, and what opens that.
SORTS: Mapping[str, tuple[str, Callable[[Path], ModelFolder | ScorerFolder | TextFolder]]] = {
    "encoder": (REMOTE, open_folder), "scorer": (REMOTE_SCORER, open_scorer_folder),
    **{called: (kind, open_text_folder) for kind, called in TEXTS.items()},
}  # fmt: skip


def register_remote(
    root: Path, name: str, url: str, key: str = "", *, title: str = "", settings: Mapping[str, Any] | None = None
) -> ModelFolder | ScorerFolder | TextFolder:
    """Register the encoder, joint scorer, writer, answerer or expander behind an endpoint; it is asked what it is.

    Raises
    ------
    RemoteError
        If the endpoint does not answer.
    ModelFolderError
        If what it says of itself is not enough.
    """
    given = {"url": url, **(settings or {})}
    said = Endpoint(url, key, given).ask("GET", "/model")
    target = root / checked_name(name, Path(url))
    kind = str(said.get("kind", "encoder"))
    if kind not in SORTS:
        raise ModelFolderError(f"{url}/model: kind: {kind!r} is not one of {', '.join(SORTS)}")
    sort, opened = SORTS[kind]
    told = ("dimension", "max_tokens", "unit", "made_for", "version") if sort == REMOTE else ("version",)
    if sort == REMOTE:
        given |= seeing_of(said, url) | ({"tokens": True} if said.get("tokens") is True else {})
    if sort == REMOTE_SCORER and "measure" in said:
        given["measure"] = str(said["measure"])
    with drafted(target) as draft:
        fields: dict[str, Any] = {field: said[field] for field in told if field in said}
        about = {"name": name, "title": title or str(said.get("name", name)), "settings": given}
        write_manifest(draft, {**fields, "kind": sort, **about})
        try:
            opened(draft)
        except ModelFolderError as error:
            raise ModelFolderError(f"{url}/model: {str(error).rpartition('.json: ')[2]}") from error
        if key:
            # Written after the manifest, which lists the digests of the other files.
            path = draft / KEY_FILE
            path.touch(0o600)
            path.write_text(key)
    return opened(target)
