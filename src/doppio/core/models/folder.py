"""The folder that a model loads from: a graph, a tokenizer and a manifest; nothing in it is executed."""

import hashlib
import json
import os
import shutil
import uuid
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from safetensors import SafetensorError
from safetensors.numpy import load_file

from doppio.core.errors import ModelFolderError
from doppio.core.models.sight import PICTURE_GRAPH, Prepared, prepared_by
from doppio.core.seen_files import SEEN, note_seen, seen_in, stamp

FORMAT = "doppio-model/1"
MANIFEST = "doppio-model.json"
GRAPH, TOKENIZER, WEIGHTS = "encoder.onnx", "tokenizer.json", "model.safetensors"
ENCODER, REMOTE = "encoder", "remote-encoder"
GRAPH_VECTOR, MEAN, FIRST, MAX = "graph", "mean", "first", "max"
POOLINGS = (GRAPH_VECTOR, MEAN, FIRST, MAX)
QUESTIONS, LIKENESS = "questions", "likeness"
MADE_FOR = (QUESTIONS, LIKENESS)
WRONG_SORT = (
    "This model was made to compare texts of like length. Short questions and long passages lie apart in it, "
    "so expect low recall; take one that was made for questions."
)


@dataclass(frozen=True)
class ModelFolder:
    """An encoder's manifest.

    kind : "encoder", or "remote-encoder" for one that an endpoint runs
    dimension : numbers a vector; a graph that gives more is cut off there
    max_tokens : longer passages are cut off there, special tokens included
    pooling : "graph" where the graph gives one vector a text, or how those of the tokens are joined
    question, passage : put before the texts
    unit : whether vectors are brought to unit length
    made_for : "questions" or "likeness", what the model was trained to compare
    settings : what a remote encoder needs besides
    pictures : how pictures are brought to its second graph; None for one that reads texts alone
    """

    path: Path
    name: str
    title: str
    kind: str
    dimension: int
    max_tokens: int
    digest: str
    licence: str
    pooling: str = GRAPH_VECTOR
    question: str = ""
    passage: str = ""
    unit: bool = True
    made_for: str = QUESTIONS
    settings: Mapping[str, Any] | None = None
    pictures: Prepared | None = None

    @property
    def reads(self) -> str:
        """What it makes vectors of, for people."""
        told = self.settings or {}
        sees, grid = (True, self.pictures.grid) if self.pictures else (bool(told.get("sees")), told.get("grid"))
        return "texts" if not sees else "texts, pictures by patches" if grid else "texts, pictures"

    @property
    def warning(self) -> str:
        """What speaks against using it for questions, or nothing."""
        return WRONG_SORT if self.made_for == LIKENESS else ""


def prepare_encoder(
    source: Path, target: Path, *, name: str, title: str, max_tokens: int, licence: str, **more: Any
) -> None:
    """Turn a BERT-family safetensors folder into a model folder, atomically.

    Parameters
    ----------
    source : Path
        Holds `config.json`, `model.safetensors` and `tokenizer.json`; read as data.
    target : Path
        The folder to make; one that is there already is replaced.
    name, title : str
        What recipes call the model, and what people read.
    max_tokens : int
        Longer passages are cut off there, special tokens included.
    more :
        Other fields of the manifest.

    Raises
    ------
    ModelFolderError
        If a file is missing or does not hold such an encoder.
    """
    weights, config = read_weights(source)
    with told_weights(source):
        # Graphs are made when weights are brought in, and by nobody who answers.
        import onnx

        from doppio.core.models.bert_graph import bert_graph

        graph = bert_graph(weights, config)
    with drafted(target) as draft:
        onnx.save(graph, str(draft / GRAPH))
        shutil.copyfile(source / TOKENIZER, draft / TOKENIZER)
        fields = {"dimension": config["hidden_size"], "pooling": GRAPH_VECTOR, "unit": True}
        write_manifest(
            draft, {"name": name, "title": title, "max_tokens": max_tokens, "licence": licence, **fields, **more}
        )


def read_weights(source: Path) -> tuple[dict[str, NDArray[np.float32]], dict[str, Any]]:
    """Weights of a BERT-family model by their usual names, and its configuration.

    Raises
    ------
    ModelFolderError
        If a file is missing or does not hold such a model.
    """
    config = read_json(source / "config.json")
    if config.get("model_type") != "bert" or config.get("hidden_act") != "gelu":
        raise ModelFolderError(f"{source / 'config.json'}: not a BERT-family encoder with GELU")
    for needed in (WEIGHTS, TOKENIZER):
        if not (source / needed).is_file():
            raise ModelFolderError(f"{source / needed}: missing")
    with told_weights(source):
        weights = load_file(source / WEIGHTS)
    return {key.removeprefix("bert."): value for key, value in weights.items()}, config


@contextmanager
def told_weights(source: Path) -> Iterator[None]:
    """Names the file of weights in what goes wrong with them."""
    try:
        yield
    except (SafetensorError, KeyError, ValueError) as error:
        raise ModelFolderError(f"{source / WEIGHTS}: {error}") from error


def prepare_bytes(source: Path, target: Path, *, name: str, title: str) -> None:
    """The same encoder with its matrices in one byte a number: faster, and its vectors a little off."""
    whole = open_folder(source)
    with drafted(target) as draft:
        from doppio.core.models.eight_bits import to_bytes

        to_bytes(source / GRAPH, source / TOKENIZER, draft / GRAPH)
        shutil.copyfile(source / TOKENIZER, draft / TOKENIZER)
        kept = {field: getattr(whole, field) for field in _FIELDS if field not in ("name", "title")}
        write_manifest(draft, {"name": name, "title": title, **kept})


def register_folder(source: Path, root: Path) -> ModelFolder:
    """Take an encoder with an ONNX graph, a tokenizer and a manifest into the models below `root`; with a second
    graph where its manifest says that it reads pictures.

    Raises
    ------
    ModelFolderError
        If a file is missing, or a field of the manifest is missing or wrong; the message names it.
    """
    manifest = read_json(source / MANIFEST)
    graph = manifest.get("graph", GRAPH)
    seeing = [PICTURE_GRAPH] if manifest.get("pictures") is not None else []
    for file in (graph, TOKENIZER, *seeing):
        if not (source / str(file)).is_file():
            raise ModelFolderError(f"{source / str(file)}: missing")
    target = root / checked_name(manifest.get("name"), source / MANIFEST)
    with drafted(target) as draft:
        shutil.copyfile(source / str(graph), draft / GRAPH)
        for file in (TOKENIZER, *seeing):
            shutil.copyfile(source / file, draft / file)
        write_manifest(draft, {key: value for key, value in manifest.items() if key not in ("graph", "files")})
        with named_by(source, draft):
            open_folder(draft)
    return open_folder(target)


@contextmanager
def named_by(source: Path, draft: Path) -> Iterator[None]:
    """What is wrong in a draft is told by the folder that somebody brought, which is where it can be mended."""
    try:
        yield
    except ModelFolderError as error:
        raise ModelFolderError(str(error).replace(str(draft), str(source))) from error


def checked_name(name: Any, where: Path) -> str:
    """A name that a recipe can use."""
    fits = (
        isinstance(name, str) and 0 < len(name) <= 64 and all(c.isascii() and (c.isalnum() or c == "-") for c in name)
    )
    if not fits or name != str(name).lower():
        raise ModelFolderError(f"{where}: name: {name!r} is not up to 64 small letters, digits and hyphens")
    return str(name)


@contextmanager
def drafted(target: Path) -> Iterator[Path]:
    """A folder that takes the place of `target` once all of it is there."""
    draft = target.with_name(f".{target.name}.{uuid.uuid4().hex}")
    draft.mkdir(parents=True)
    try:
        yield draft
        if target.exists():
            shutil.rmtree(target)
        draft.rename(target)
    finally:
        if draft.exists():
            shutil.rmtree(draft)


def write_manifest(folder: Path, fields: Mapping[str, Any]) -> None:
    """Write the manifest of a folder, with the digests of the files that are in it."""
    files = {file.name: _digest(file) for file in sorted(folder.iterdir()) if file.name not in (MANIFEST, SEEN)}
    manifest = {"format": FORMAT, "kind": ENCODER, **fields, "files": files}
    with (folder / MANIFEST).open("w", encoding="utf-8") as file:
        json.dump(manifest, file, indent=1)
        file.flush()
        os.fsync(file.fileno())


Fields = Mapping[str, tuple[type | tuple[type, ...], Any]]
_FIELDS: Fields = {
    "name": (str, None), "title": (str, None), "dimension": (int, None), "max_tokens": (int, None),
    "licence": (str, "not stated"), "pooling": (str, GRAPH_VECTOR), "question": (str, ""), "passage": (str, ""),
    "unit": (bool, True), "made_for": (str, QUESTIONS), "kind": (str, ENCODER),
}  # fmt: skip
_CHOICES = {"pooling": POOLINGS, "made_for": MADE_FOR, "kind": (ENCODER, REMOTE)}


def open_folder(path: Path) -> ModelFolder:
    """Read the manifest of an encoder's folder and check that its files are there.

    Raises
    ------
    ModelFolderError
        If the manifest or a file that it lists is missing, or a field has another type or value than it may.
    """
    fields, digest, settings = read_manifest(path, _FIELDS, _CHOICES)
    pictures = prepared_by(read_json(path / MANIFEST).get("pictures"), path / MANIFEST)
    return ModelFolder(path=path, digest=digest, settings=settings, pictures=pictures, **fields)


def kind_of(path: Path) -> str:
    """What a model folder says it is; an encoder where it says nothing.

    Raises
    ------
    ModelFolderError
        If it has no manifest.
    """
    return str(read_json(path / MANIFEST).get("kind", ENCODER))


def read_manifest(
    path: Path, known: Fields, choices: Mapping[str, tuple[str, ...]]
) -> tuple[dict[str, Any], str, Mapping[str, Any] | None]:
    """The fields of a folder's manifest, a digest of all that scores or vectors depend on, and its settings.

    Parameters
    ----------
    known : mapping of a field's name to its type and what it is where it is left out; None where it may not be
    choices : mapping of a field's name to what it may be

    Raises
    ------
    ModelFolderError
        If the manifest or a file that it lists is missing, or a field has another type or value than it may.
    """
    manifest = read_json(path / MANIFEST)
    where = path / MANIFEST
    if manifest.get("format") != FORMAT:
        raise ModelFolderError(f"{where}: format: {manifest.get('format')!r} is not {FORMAT!r}")
    fields: dict[str, Any] = {}
    for name, (kind, default) in known.items():
        value = manifest.get(name, default)
        if value is None:
            raise ModelFolderError(f"{where}: {name}: missing")
        if not isinstance(value, kind) or (isinstance(value, int) and kind is int and (value is True or value < 1)):
            wanted = "a whole number above 0" if kind is int else "true or false" if kind is bool else "a text"
            raise ModelFolderError(f"{where}: {name}: {value!r} is not {wanted}")
        if name in choices and value not in choices[name]:
            raise ModelFolderError(f"{where}: {name}: {value!r} is not one of {', '.join(choices[name])}")
        fields[name] = value
    for file in manifest.get("files", {}):
        if not (path / file).is_file():
            raise ModelFolderError(f"{path / file}: missing; set the model up again")
    told = {**{key: fields[key] for key in fields if key != "title"}, "files": manifest.get("files", {})}
    told["version"] = manifest.get("version", "")
    if manifest.get("pictures") is not None:
        told["pictures"] = manifest["pictures"]
    digest = hashlib.blake2b(json.dumps(told, sort_keys=True).encode(), digest_size=10).hexdigest()
    return fields, digest, manifest.get("settings")


def check_files(path: Path) -> None:
    """Compare all files of a model folder with its manifest; what was found right is not read again.

    Raises
    ------
    ModelFolderError
        If a file is missing, or is not what was written; the message names it.
    """
    seen, stamps = seen_in(path), {}
    for file, digest in read_json(path / MANIFEST).get("files", {}).items():
        if not (path / file).is_file():
            raise ModelFolderError(f"{path / file}: missing; set the model up again")
        stamps[file] = stamp(path / file)
        if seen.get(file) != stamps[file] and _digest(path / file) != digest:
            raise ModelFolderError(f"{path / file}: damaged; it is not what was written. Set the model up again")
    if seen != stamps:
        note_seen(path, stamps)


def read_json(path: Path) -> dict[str, Any]:
    """A JSON object from a file.

    Raises
    ------
    ModelFolderError
        If the file is missing or holds none.
    """
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError as error:
        raise ModelFolderError(f"{path}: missing") from error
    except ValueError as error:
        raise ModelFolderError(f"{path}: not JSON ({error})") from error
    if not isinstance(found, dict):
        raise ModelFolderError(f"{path}: not a JSON object")
    return found


def _digest(path: Path) -> str:
    return hashlib.blake2b(path.read_bytes(), digest_size=16).hexdigest()
