"""The folder that a model loads from: a graph, a tokenizer and a manifest; nothing in it is executed."""

import hashlib
import json
import os
import shutil
import uuid
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import onnx
from safetensors import SafetensorError
from safetensors.numpy import load_file

from doppio.core.errors import ModelFolderError
from doppio.core.models.bert_graph import bert_graph

FORMAT = "doppio-model/1"
MANIFEST = "doppio-model.json"
GRAPH, TOKENIZER = "encoder.onnx", "tokenizer.json"


@dataclass(frozen=True)
class ModelFolder:
    """An encoder folder whose manifest has been read."""

    path: Path
    name: str
    title: str
    dimension: int
    max_tokens: int
    digest: str
    licence: str


def prepare_encoder(source: Path, target: Path, *, name: str, title: str, max_tokens: int, licence: str) -> None:
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

    Raises
    ------
    ModelFolderError
        If a file is missing or does not hold such an encoder.
    """
    config = _json(source / "config.json")
    if config.get("model_type") != "bert" or config.get("hidden_act") != "gelu":
        raise ModelFolderError(f"{source / 'config.json'}: not a BERT-family encoder with GELU")
    for needed in ("model.safetensors", TOKENIZER):
        if not (source / needed).is_file():
            raise ModelFolderError(f"{source / needed}: missing")
    try:
        weights = load_file(source / "model.safetensors")
        graph = bert_graph({key.removeprefix("bert."): value for key, value in weights.items()}, config)
    except (SafetensorError, KeyError) as error:
        raise ModelFolderError(f"{source / 'model.safetensors'}: {error}") from error
    draft = target.with_name(f".{target.name}.{uuid.uuid4().hex}")
    draft.mkdir(parents=True)
    try:
        onnx.save(graph, str(draft / GRAPH))
        shutil.copyfile(source / TOKENIZER, draft / TOKENIZER)
        manifest = {
            "format": FORMAT,
            "name": name,
            "title": title,
            "kind": "encoder",
            "dimension": config["hidden_size"],
            "max_tokens": max_tokens,
            "pooling": "mean over the attention mask, then unit length",
            "licence": licence,
            "files": {file: _digest(draft / file) for file in (GRAPH, TOKENIZER)},
        }
        with (draft / MANIFEST).open("w", encoding="utf-8") as file:
            json.dump(manifest, file, indent=1)
            file.flush()
            os.fsync(file.fileno())
        if target.exists():
            shutil.rmtree(target)
        draft.rename(target)
    finally:
        if draft.exists():
            shutil.rmtree(draft)


def open_folder(path: Path) -> ModelFolder:
    """Read the manifest of a model folder and check that its files are there.

    Raises
    ------
    ModelFolderError
        If the manifest or a file that it lists is missing or has another size or format.
    """
    manifest = _json(path / MANIFEST)
    if manifest.get("format") != FORMAT or manifest.get("kind") != "encoder":
        raise ModelFolderError(f"{path / MANIFEST}: format is not {FORMAT} of kind encoder")
    for file in manifest["files"]:
        if not (path / file).is_file():
            raise ModelFolderError(f"{path / file}: missing; set the model up again")
    return ModelFolder(
        path=path,
        name=manifest["name"],
        title=manifest["title"],
        dimension=manifest["dimension"],
        max_tokens=manifest["max_tokens"],
        digest=hashlib.blake2b(json.dumps(manifest["files"], sort_keys=True).encode(), digest_size=10).hexdigest(),
        licence=manifest["licence"],
    )


def _json(path: Path) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError as error:
        raise ModelFolderError(f"{path}: missing") from error
    except ValueError as error:
        raise ModelFolderError(f"{path}: not JSON ({error})") from error
    return found


def _digest(path: Path) -> str:
    return hashlib.blake2b(path.read_bytes(), digest_size=16).hexdigest()
