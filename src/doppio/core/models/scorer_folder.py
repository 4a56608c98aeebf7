"""The folder that a joint scorer loads from: a graph, a tokenizer and a manifest; nothing in it is executed."""

import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from safetensors import SafetensorError
from safetensors.numpy import load_file

from doppio.core.errors import ModelFolderError
from doppio.core.models.answerable import FACTS, Answerable
from doppio.core.models.folder import (
    MANIFEST,
    TOKENIZER,
    WEIGHTS,
    Fields,
    checked_name,
    drafted,
    named_by,
    read_json,
    read_manifest,
    read_weights,
    told_weights,
    write_manifest,
)

GRAPH = "scorer.onnx"
SCORER, REMOTE_SCORER = "joint-scorer", "remote-scorer"
KINDS = (SCORER, REMOTE_SCORER)
GATED, PAIR = "gated", "pair"
QUESTION_FIRST, PASSAGE_FIRST = "question-first", "passage-first"
NO_ACTIVATION, SIGMOID, SOFTMAX = "none", "sigmoid", "softmax"
ACTIVATIONS = (NO_ACTIVATION, SIGMOID, SOFTMAX)
ORDERS = (QUESTION_FIRST, PASSAGE_FIRST)


@dataclass(frozen=True)
class Calibration:
    """Turns a score into the probability that the passage answers: 1 / (1 + exp(-(slope x score + offset))).

    References
    ----------
    .. [1] J. Platt, "Probabilistic outputs for support vector machines and comparisons to regularized likelihood
       methods", Advances in Large Margin Classifiers, 1999.
    """

    slope: float
    offset: float

    def logits(self, scores: NDArray[np.float32]) -> NDArray[np.float64]:
        """Log-odds, within 60 of even."""
        return np.clip(self.slope * scores.astype(np.float64) + self.offset, -60, 60)

    def probability(self, scores: NDArray[np.float32]) -> NDArray[np.float32]:
        return (1 / (1 + np.exp(-self.logits(scores)))).astype(np.float32)


@dataclass(frozen=True)
class ScorerFolder:
    """A joint scorer's manifest.

    kind : "joint-scorer", or "remote-scorer" for one that an endpoint runs
    layout : "gated", two halves with positions of their own; or "pair", one sequence by the tokenizer's own template
    max_tokens : of both texts together; of the passage alone where the layout is gated; special tokens included
    order : which text comes first in a pair
    activation : what is done to what the graph gives: "none", "sigmoid" or "softmax"
    label : which output is the score where the graph gives several, counted from 1; the last where it is 0
    blend : share of the first stage's standardised score that measures best, where a recipe says nothing
    calibration : how scores become probabilities, or None where nobody has measured that
    answerable : how likely a question is answered at all, or None where nobody has measured that
    window : tokens that it reads best at once, or None where that is a whole passage
    """

    path: Path
    name: str
    title: str
    kind: str
    max_tokens: int
    digest: str
    licence: str
    layout: str = PAIR
    order: str = QUESTION_FIRST
    activation: str = NO_ACTIVATION
    label: int = 0
    blend: float = 0.0
    calibration: Calibration | None = None
    settings: Mapping[str, Any] | None = None
    answerable: Answerable | None = None
    window: int | None = None


_FIELDS: Fields = {
    "name": (str, None), "title": (str, None), "max_tokens": (int, 512), "licence": (str, "not stated"),
    "layout": (str, PAIR), "order": (str, QUESTION_FIRST), "activation": (str, NO_ACTIVATION), "kind": (str, SCORER),
}  # fmt: skip
_CHOICES = {"layout": (GATED, PAIR), "order": ORDERS, "activation": ACTIVATIONS, "kind": KINDS}


def open_scorer_folder(path: Path) -> ScorerFolder:
    """Read the manifest of a joint scorer's folder and check that its files are there.

    Raises
    ------
    ModelFolderError
        If the manifest or a file that it lists is missing, or a field has another type or value than it may.
    """
    fields, digest, settings = read_manifest(path, _FIELDS, _CHOICES)
    manifest, where = read_json(path / MANIFEST), path / MANIFEST
    label = manifest.get("label", 0)
    if not isinstance(label, int) or isinstance(label, bool) or label < 0:
        raise ModelFolderError(f"{where}: label: {label!r} is not a whole number from 0")
    blend = manifest.get("blend", 0.0)
    if not _is_number(blend) or not 0 <= blend <= 10:
        raise ModelFolderError(f"{where}: blend: {blend!r} is not a number from 0 to 10")
    window = manifest.get("window")
    if window is not None and (not isinstance(window, int) or isinstance(window, bool) or not 16 <= window <= 512):
        raise ModelFolderError(f"{where}: window: {window!r} is not a whole number from 16 to 512, in tokens")
    calibration = manifest.get("calibration")
    if calibration is not None:
        fits = isinstance(calibration, dict) and all(_is_number(calibration.get(key)) for key in ("slope", "offset"))
        if not fits or calibration["slope"] <= 0:
            raise ModelFolderError(f"{where}: calibration: {calibration!r} has no `slope` above 0 and `offset`")
        calibration = Calibration(float(calibration["slope"]), float(calibration["offset"]))
    answerable = manifest.get("answerable")
    if answerable is not None:
        named = (*FACTS, "offset")
        if not isinstance(answerable, dict) or not all(_is_number(answerable.get(key)) for key in named):
            raise ModelFolderError(f"{where}: answerable: {answerable!r} has no numbers {', '.join(named)}")
        if calibration is None:
            raise ModelFolderError(f"{where}: answerable: rests on the calibration, which is missing")
        answerable = Answerable.from_json(answerable)
    if fields["kind"] == SCORER:
        for file in (GRAPH, TOKENIZER):
            if not (path / file).is_file():
                raise ModelFolderError(f"{path / file}: missing; set the model up again")
    # The digest is of the scores; what is made of them after does not change them, but labels and orders do.
    digest = f"{digest}-{label}" if label else digest
    return ScorerFolder(
        path=path,
        digest=digest,
        settings=settings,
        label=label,
        blend=float(blend),
        calibration=calibration,
        answerable=answerable,
        window=window,
        **fields,
    )


def prepare_gated(source: Path, learned: Path, target: Path, *, small: bool, fields: Mapping[str, Any]) -> None:
    """Join an encoder's pinned weights with what was learned beside them into one scorer's folder, atomically.

    Parameters
    ----------
    source : Path
        The encoder: `config.json`, `model.safetensors`, `tokenizer.json`.
    learned : Path
        Safetensors with the arrays that `gated_graph` takes.
    small : bool
        Whether matrices are kept in one byte a number.
    fields :
        The manifest.

    Raises
    ------
    ModelFolderError
        If a file is missing, damaged, or does not fit the others.
    """
    weights, config = read_weights(source)
    try:
        found = {name: value.astype(np.float32) for name, value in load_file(learned).items()}
        from doppio.core.models.bert_graph import gated_graph

        graph = gated_graph(weights, found, config)
    except (SafetensorError, OSError, KeyError, ValueError) as error:
        raise ModelFolderError(f"{learned}: {error}") from error
    _write(graph, source, target, small, {"layout": GATED, **fields})


def prepare_pair(source: Path, target: Path, *, fields: Mapping[str, Any], small: bool = False) -> None:
    """Turn a BERT-family cross-encoder with a classification head into a scorer's folder, atomically.

    Raises
    ------
    ModelFolderError
        If a file is missing, damaged, or holds no classification head.
    """
    weights, config = read_weights(source)
    for needed in ("classifier.weight", "pooler.dense.weight"):
        if needed not in weights:
            raise ModelFolderError(f"{source / WEIGHTS}: {needed}: missing, so this is no cross-encoder")
    with told_weights(source):
        from doppio.core.models.bert_graph import pair_graph

        graph = pair_graph(weights, config)
    _write(graph, source, target, small, {"layout": PAIR, **fields})


def _write(graph: Any, source: Path, target: Path, small: bool, fields: Mapping[str, Any]) -> None:
    with drafted(target) as draft:
        import onnx

        whole = draft / ("whole.onnx" if small else GRAPH)
        onnx.save(graph, str(whole))
        if small:
            from doppio.core.models.eight_bits import to_bytes

            to_bytes(whole, source / TOKENIZER, draft / GRAPH)
            whole.unlink()
        shutil.copyfile(source / TOKENIZER, draft / TOKENIZER)
        write_manifest(draft, {"kind": SCORER, **fields})
        open_scorer_folder(draft)


def register_scorer(source: Path, root: Path) -> ScorerFolder:
    """Take a joint scorer with an ONNX graph, a tokenizer and a manifest into the models below `root`.

    Raises
    ------
    ModelFolderError
        If a file is missing, or a field of the manifest is missing or wrong; the message names it.
    """
    manifest = read_json(source / MANIFEST)
    graph = str(manifest.get("graph", GRAPH))
    for file in (graph, TOKENIZER):
        if not (source / file).is_file():
            raise ModelFolderError(f"{source / file}: missing")
    target = root / checked_name(manifest.get("name"), source / MANIFEST)
    with drafted(target) as draft:
        shutil.copyfile(source / graph, draft / GRAPH)
        shutil.copyfile(source / TOKENIZER, draft / TOKENIZER)
        write_manifest(draft, {key: value for key, value in manifest.items() if key not in ("graph", "files")})
        with named_by(source, draft):
            open_scorer_folder(draft)
    return open_scorer_folder(target)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and bool(np.isfinite(value))
