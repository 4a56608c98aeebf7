"""An encoder or a joint scorer behind an HTTP endpoint, by a small protocol of our own.

`GET {url}/model` answers with `name`, `version`, `dimension`, `max_tokens`, `unit` and `made_for`.
`POST {url}/encode` takes `{"format": "doppio-encode/1", "as": "question" or "passage", "texts": [...]}` and answers
with `{"vectors": [[...], ...]}`, one for each text. A scorer's `/model` has `"kind": "scorer"`, `name`, `version`
and `measure`; `POST {url}/score` takes `{"format": "doppio-score/1", "question": "...", "passages": [...]}` and
answers with `{"scores": [...]}`, larger is better. A key goes along as `Authorization: Bearer KEY`.
"""

import json
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import urllib3
from numpy.typing import NDArray
from urllib3.util import Retry

from doppio.core.errors import ModelFolderError, RemoteError
from doppio.core.models.cross_encoder import MEASURES
from doppio.core.models.encoder import Encoded
from doppio.core.models.folder import REMOTE, ModelFolder, checked_name, drafted, open_folder, write_manifest
from doppio.core.models.joint import Passage, Scored
from doppio.core.models.scorer_folder import NO_ACTIVATION, REMOTE_SCORER, ScorerFolder, open_scorer_folder

FORMAT = "doppio-encode/1"
SCORE_FORMAT = "doppio-score/1"
KEY_FILE = "key"
TIMEOUT, RETRIES, BATCH, BACK_OFF = 30.0, 4, 64, 0.5
# An endpoint that names a longer pause is not waited for so long, and no call takes longer than the deadline.
LONGEST_PAUSE, DEADLINE = 5, 60.0


class _Until(Retry):
    """Tries again until a moment (of `time.monotonic`), and not after it."""

    def __init__(self, *given: Any, until: float = np.inf, **named: Any) -> None:
        super().__init__(*given, **named)
        self.until = until

    def new(self, **changed: Any) -> "_Until":
        made = super().new(**changed)
        made.until = self.until
        return made

    def is_exhausted(self) -> bool:
        return super().is_exhausted() or time.monotonic() >= self.until


class Endpoint:
    """One endpoint: times out, and tries again with longer and longer pauses while it is busy or away."""

    def __init__(self, url: str, key: str, settings: Mapping[str, Any]) -> None:
        self.url = url.rstrip("/")
        self._headers = {"Content-Type": "application/json", **({"Authorization": f"Bearer {key}"} if key else {})}
        self._retries = _Until(
            total=int(settings.get("retries", RETRIES)), backoff_factor=float(settings.get("back_off", BACK_OFF)),
            status_forcelist=(429, 500, 502, 503, 504), allowed_methods=None, raise_on_status=False,
            backoff_max=LONGEST_PAUSE, retry_after_max=LONGEST_PAUSE,
        )  # fmt: skip
        self._deadline = float(settings.get("deadline", DEADLINE))
        timeout = urllib3.Timeout(total=min(float(settings.get("timeout", TIMEOUT)), self._deadline))
        self._pool = urllib3.PoolManager(timeout=timeout)

    def ask(self, method: str, path: str, body: Any = None) -> dict[str, Any]:
        """Send a request and read the JSON object that answers it.

        Raises
        ------
        RemoteError
            If the endpoint cannot be reached, refuses, or answers with something else.
        """
        address = self.url + path
        try:
            sent = None if body is None else json.dumps(body).encode()
            retries = self._retries.new()
            retries.until = time.monotonic() + self._deadline
            answer = self._pool.request(method, address, body=sent, headers=self._headers, retries=retries)
        except urllib3.exceptions.HTTPError as error:
            raise RemoteError(f"{address}: cannot be reached ({error})") from error
        if answer.status != 200:
            said = answer.data[:200].decode(errors="replace")
            raise RemoteError(f"{address}: answered with status {answer.status}: {said}")
        try:
            found = json.loads(answer.data)
        except ValueError as error:
            raise RemoteError(f"{address}: the answer is not JSON") from error
        if not isinstance(found, dict):
            raise RemoteError(f"{address}: the answer is not a JSON object")
        return found


class RemoteEncoder:
    """An encoder that an endpoint runs; texts go out in batches."""

    def __init__(self, folder: ModelFolder) -> None:
        self.folder = folder
        self.name, self.title, self.digest = folder.name, folder.title, folder.digest
        self.dimension, self.unit, self.warning = folder.dimension, folder.unit, folder.warning
        self.max_tokens = folder.max_tokens
        self.price = float((folder.settings or {}).get("price", 0.0))
        self._endpoint, self._batch = _endpoint(folder.path, folder.settings or {})

    def questions(self, texts: Sequence[str]) -> NDArray[np.float32]:
        parts = [vectors for _, vectors in self._vectors(texts, "question")]
        return np.concatenate([np.empty((0, self.dimension), np.float32), *parts])

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        for place, vectors in self._vectors(texts, "passage"):
            yield Encoded(place, vectors, None, None)

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
    """The endpoint of a registered model, and how many texts go out at once."""
    key = folder / KEY_FILE
    said = key.read_text().strip() if key.exists() else ""
    return Endpoint(settings["url"], said, settings), int(settings.get("batch", BATCH))


def register_remote(
    root: Path, name: str, url: str, key: str = "", *, title: str = "", settings: Mapping[str, Any] | None = None
) -> ModelFolder | ScorerFolder:
    """Register the encoder or joint scorer behind an endpoint; it is asked what it is.

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
    scorer = said.get("kind") == "scorer"
    told = ("version",) if scorer else ("dimension", "max_tokens", "unit", "made_for", "version")
    if scorer and "measure" in said:
        given["measure"] = str(said["measure"])
    opened: Callable[[Path], ModelFolder | ScorerFolder] = open_scorer_folder if scorer else open_folder
    with drafted(target) as draft:
        fields: dict[str, Any] = {field: said[field] for field in told if field in said}
        about = {"name": name, "title": title or str(said.get("name", name)), "settings": given}
        write_manifest(draft, {**fields, "kind": REMOTE_SCORER if scorer else REMOTE, **about})
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
