"""A joint scorer from a model folder: question and passage are read together by one ONNX graph."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from tokenizers import Encoding, Tokenizer

from doppio.core.cores import cores
from doppio.core.errors import ModelFolderError
from doppio.core.models.batching import like_length
from doppio.core.models.folder import TOKENIZER, check_files
from doppio.core.models.joint import Passage, Scored, Window
from doppio.core.models.scorer_folder import (
    GATED,
    GRAPH,
    NO_ACTIVATION,
    PASSAGE_FIRST,
    SIGMOID,
    SOFTMAX,
    open_scorer_folder,
)
from doppio.core.models.session import open_session
from doppio.core.text.units import Units
from doppio.core.text.windows import character_ranges, window_bounds

# A question takes at most this share of what is read, so that something of the passage is.
QUESTION_SHARE = 4
# Every core takes a batch of its own: less waiting for each other than all cores on one, and what a batch needs stays
# in a core's cache while it is small.
TOKENS_A_BATCH = 512
IDS, MASK, TYPES = ("ids", "input_ids"), ("mask", "attention_mask"), ("types", "token_type_ids")
PLACES, SIDE = ("places",), ("side",)
Ints = NDArray[np.int64]
Found = TypeVar("Found")
MEASURES = {
    NO_ACTIVATION: "joint score of question and passage",
    SIGMOID: "joint score of question and passage, 0 to 1",
    SOFTMAX: "joint score of question and passage, 0 to 1",
}


class CrossEncoder:
    """Safe to use from several threads.

    Raises
    ------
    ModelFolderError
        If a file is missing or damaged, or the graph has other inputs than the layout needs; names the folder.
    """

    def __init__(self, path: Path, *, threads: int | None = None) -> None:
        self.folder = open_scorer_folder(path)
        check_files(path)
        try:
            self._session = open_session(path / GRAPH, 1)
            self._tokenizer = Tokenizer.from_file(str(path / TOKENIZER))
        except Exception as error:
            raise ModelFolderError(f"{path}: cannot be loaded ({error})") from error
        self._cores = ThreadPoolExecutor(threads or cores(), thread_name_prefix="scorer")
        self._tokenizer.no_truncation()
        self._tokenizer.no_padding()
        self._gated = self.folder.layout == GATED
        # Windows are cut so that they fit. What falls into more tokens alone than it had in its text, such as a part
        # of one long word, is cut off, and never more than the graph can take.
        self._cutting = Tokenizer.from_str(self._tokenizer.to_str())
        passage = "only_first" if self._gated or self.folder.order == PASSAGE_FIRST else "only_second"
        self._cutting.enable_truncation(self.folder.max_tokens, strategy=passage)
        self._names = self._inputs(path)
        self._score = self._session.get_outputs()[0].name
        # Special tokens of a pair, or of the passage alone.
        self._special = self._tokenizer.num_special_tokens_to_add(not self._gated)
        self.name, self.title, self.digest = self.folder.name, self.folder.title, self.folder.digest
        self.measure = MEASURES[self.folder.activation]
        self.calibration, self.blend = self.folder.calibration, self.folder.blend
        self.answerable = self.folder.answerable

    def _inputs(self, path: Path) -> dict[str, str]:
        """What each input is called in the graph."""
        kinds = {"ids": IDS, "mask": MASK} | ({"places": PLACES, "side": SIDE} if self._gated else {"types": TYPES})
        found: dict[str, str] = {}
        for given in self._session.get_inputs():
            kind = next((kind for kind, names in kinds.items() if given.name in names), None)
            if kind is None:
                allowed = ", ".join(" or ".join(names) for names in kinds.values())
                raise ModelFolderError(f"{path / GRAPH}: has an input {given.name!r}; allowed are {allowed}")
            found[kind] = given.name
        lacking = [kind for kind in kinds if kind not in found and kind != "types"]
        if lacking:
            raise ModelFolderError(f"{path / GRAPH}: has no input for {', '.join(lacking)}")
        return found

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        """Raw scores of the passages, larger is better: (n,) float32, in the order given.

        Notes
        -----
        The same text is scored once. One that is too long is cut into windows that overlap by a quarter; the best of
        them is its score, and `windows` says which that was. Batches are of like length, so that little is padding.
        """
        texts = list(dict.fromkeys(passage.text for passage in passages))
        question = self._shortened(question)
        room = self.folder.max_tokens - self._special
        if not self._gated:
            room -= self._length(question)
        room = max(room, 1)
        encoded = self._tokenizer.encode_batch(texts, add_special_tokens=False)
        owner: list[int] = []
        spans: list[Window] = []
        for row, (text, encoding) in enumerate(zip(texts, encoded, strict=True)):
            cut = _windows(text, encoding, room) if len(encoding.ids) > room else [(0, len(text))]
            owner += [row] * len(cut)
            spans += cut
        raw = self._run(question, [texts[row][start:end] for row, (start, end) in zip(owner, spans, strict=True)])
        scores = np.full(len(texts), -np.inf, np.float32)
        read: list[Window | None] = [None] * len(texts)
        for row, span, value in zip(owner, spans, raw.tolist(), strict=True):
            if value > scores[row]:
                scores[row] = value
                read[row] = span if span != (0, len(texts[row])) else None
        place = {text: row for row, text in enumerate(texts)}
        rows = [place[passage.text] for passage in passages]
        return Scored(scores[rows], tuple(read[row] for row in rows))

    def batches(self, question: str, texts: Sequence[str]) -> Iterator[tuple[Ints, dict[str, Ints]]]:
        """Inputs of the graph for pairs that fit, in batches of like length: positions of the texts, and arrays."""
        encode = self._halves if self._gated else self._pairs
        rows = encode(question, texts)
        lengths = np.array([len(row["ids"]) for row in rows], np.int64)
        for place in like_length(lengths, TOKENS_A_BATCH):
            longest = int(lengths[place].max())
            given = {name: np.zeros((len(place), longest), np.int64) for name in self._names.values()}
            for line, number in enumerate(place):
                for kind, name in self._names.items():
                    given[name][line, : lengths[number]] = 1 if kind == "mask" else rows[number][kind]
            yield place, given

    def each_batch(
        self, question: str, texts: Sequence[str], run: Callable[[dict[str, Ints]], Found]
    ) -> Iterator[tuple[Ints, Found]]:
        """Positions of the texts of each batch, and what `run` makes of it; every core runs one batch at a time."""
        batches = list(self.batches(question, texts))
        found = self._cores.map(run, [given for _, given in batches])
        return zip((place for place, _ in batches), found, strict=True)

    def run(self, given: dict[str, Ints]) -> NDArray[np.float32]:
        """Scores of one batch: (n,) float32.

        Raises
        ------
        ModelFolderError
            If the graph gives something that is no score a pair.
        """
        found = np.asarray(self._session.run([self._score], given)[0], np.float32)
        rows = len(next(iter(given.values())))
        found = found.reshape(rows, -1)
        label, activation = self.folder.label, self.folder.activation
        if label > found.shape[1]:
            raise ModelFolderError(f"{self.folder.path}: label: {label} stated, the graph gives {found.shape[1]}")
        if activation == SOFTMAX:
            found = np.exp(found - found.max(axis=1, keepdims=True))
            found /= found.sum(axis=1, keepdims=True)
        chosen: NDArray[np.float32] = found[:, label - 1]
        if activation == SIGMOID:
            chosen = (1 / (1 + np.exp(-np.clip(chosen, -80, 80)))).astype(np.float32)
        if not np.isfinite(chosen).all():
            raise ModelFolderError(f"{self.folder.path / GRAPH}: gave scores that are no finite numbers")
        return np.ascontiguousarray(chosen, np.float32)

    def _run(self, question: str, texts: Sequence[str]) -> NDArray[np.float32]:
        scores = np.zeros(len(texts), np.float32)
        for place, found in self.each_batch(question, texts, self.run):
            scores[place] = found
        return scores

    def _halves(self, question: str, texts: Sequence[str]) -> list[dict[str, list[int]]]:
        asked = self._tokenizer.encode(question).ids
        encodings = self._cutting.encode_batch(list(texts))
        return [
            {
                "ids": [*asked, *encoding.ids],
                "places": [*range(len(asked)), *range(len(encoding.ids))],
                "side": [0] * len(asked) + [1] * len(encoding.ids),
            }
            for encoding in encodings
        ]

    def _pairs(self, question: str, texts: Sequence[str]) -> list[dict[str, list[int]]]:
        turned = self.folder.order == PASSAGE_FIRST
        pairs = [(text, question) if turned else (question, text) for text in texts]
        encodings = self._cutting.encode_batch(pairs)
        return [{"ids": encoding.ids, "types": encoding.type_ids} for encoding in encodings]

    def _length(self, text: str) -> int:
        return len(self._tokenizer.encode(text, add_special_tokens=False).ids)

    def _shortened(self, question: str) -> str:
        """The question up to the token that still leaves most of the room to the passage."""
        most = max(self.folder.max_tokens // QUESTION_SHARE, 1)
        encoding = self._tokenizer.encode(question, add_special_tokens=False)
        return question if len(encoding.ids) <= most else question[: encoding.offsets[most - 1][1]]


def _windows(text: str, encoding: Encoding, room: int) -> list[Window]:
    """Ranges of characters of at most `room` tokens that cover an encoded text with overlap."""
    offsets = np.array(encoding.offsets, np.int64).reshape(-1, 2)
    units = Units(np.ascontiguousarray(offsets[:, 0]), np.ascontiguousarray(offsets[:, 1]))
    return character_ranges(text, units, window_bounds(text, units, room))
