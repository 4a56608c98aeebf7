"""`./doppio model`: encoders, scorers, writers and answerers that recipes can name."""

import io
import shutil
from pathlib import Path
from typing import Annotated, Any

import typer
from PIL import Image
from rich import box
from rich.table import Table

from doppio.command.paths import MODELS
from doppio.command.show import out
from doppio.core.errors import DoppioError
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.encoder import Encoder
from doppio.core.models.folder import (
    MADE_FOR,
    MANIFEST,
    QUESTIONS,
    checked_name,
    kind_of,
    prepare_encoder,
    read_json,
    register_folder,
)
from doppio.core.models.joint import Passage
from doppio.core.models.registry import Models
from doppio.core.models.remote import register_remote
from doppio.core.models.scorer_folder import KINDS, ScorerFolder, prepare_pair, register_scorer
from doppio.core.models.text_folder import TEXTS, TextFolder
from doppio.core.models.tokenizer import register_tokenizer

app = typer.Typer(
    help="Encoders and joint scorers that recipes can name.", no_args_is_help=True, rich_markup_mode=None
)
TRIED = ("Is the line closed in a gale?", "The line closes when the mean wind reaches 18 m/s.")


@app.command("list")
def listed() -> None:
    """Show what is registered."""
    models = Models(MODELS)
    table = Table("encoder", "title", "reads", "numbers", "tokens", "made for", "where", box=box.SIMPLE_HEAD)
    for folder in models.listed():
        where = "endpoint" if folder.settings else "here"
        table.add_row(
            folder.name,
            folder.title,
            folder.reads,
            str(folder.dimension),
            str(folder.max_tokens),
            folder.made_for,
            where,
        )
    out.print(table)
    table = Table("joint scorer", "title", "tokens", "score", "blend", "where", box=box.SIMPLE_HEAD)
    for scorer in models.scorers():
        where, tokens = ("endpoint", "") if scorer.settings else ("here", str(scorer.max_tokens))
        score = "probability" if scorer.calibration else "raw"
        table.add_row(scorer.name, scorer.title, tokens, score, f"{scorer.blend:g}", where)
    out.print(table)
    table = Table("other", "title", "what", "where", box=box.SIMPLE_HEAD)
    for text in models.texts():
        table.add_row(text.name, text.title, TEXTS[text.kind], str(text.settings["url"]))
    for counting in models.tokenizers():
        table.add_row(counting, counting, "tokenizer", "here")
    if table.rows:
        out.print(table)


@app.command()
def add(
    folder: Annotated[Path, typer.Argument(help="Holds an ONNX graph, tokenizer.json and doppio-model.json; or a "
                                                "BERT-family config.json, model.safetensors and tokenizer.json.")],
    name: Annotated[str, typer.Option(help="What recipes call it; only for safetensors.")] = "",
    title: Annotated[str, typer.Option(help="What people read; only for safetensors.")] = "",
    max_tokens: Annotated[int, typer.Option(help="Longest passage in tokens; only for safetensors.", min=8)] = 256,
    made_for: Annotated[str, typer.Option(help="questions or likeness; only for safetensors.")] = QUESTIONS,
    licence: Annotated[str, typer.Option(help="Of the weights; only for safetensors.")] = "not stated",
    joint: Annotated[bool, typer.Option("--joint", help="A cross-encoder with a classification head; only for "
                                                        "safetensors without a manifest.")] = False,
) -> None:  # fmt: skip
    """Register an encoder or a joint scorer from a folder; it is copied, and nothing in it is executed."""
    is_scorer = joint or _says_scorer(folder)
    wanted = name
    if (folder / "model.safetensors").exists():
        if made_for not in MADE_FOR:
            raise DoppioError(f"--made-for: {made_for!r} is not one of {', '.join(MADE_FOR)}")
        wanted = checked_name(name or folder.name.lower(), folder)
        given: dict[str, Any] = {"name": wanted, "title": title or wanted, "max_tokens": max_tokens}
        given["licence"] = licence
        if is_scorer:
            said = read_json(folder / MANIFEST) if (folder / MANIFEST).exists() else {}
            told: dict[str, Any] = {
                key: said[key] for key in ("order", "activation", "label", "max_tokens", "blend") if key in said
            }
            prepare_pair(folder, MODELS / wanted, fields={**given, **told})
        else:
            prepare_encoder(folder, MODELS / wanted, **given, made_for=made_for)
    elif is_scorer:
        wanted = register_scorer(folder, MODELS).name
    else:
        wanted = register_folder(folder, MODELS).name
    try:
        warning = _tried_scorer(wanted) if is_scorer else _tried_encoder(wanted)
    except DoppioError:
        shutil.rmtree(MODELS / wanted)
        raise
    if warning:
        out.print(warning)


def _says_scorer(folder: Path) -> bool:
    return (folder / MANIFEST).exists() and kind_of(folder) in KINDS


def _tried_encoder(name: str) -> str:
    encoder = Encoder(MODELS / name)
    encoder.questions(TRIED)
    out.print(f"{name}: registered, {encoder.dimension} numbers a vector{_tried_sight(encoder)}.")
    return encoder.warning


def _tried_sight(encoder: Encoder) -> str:
    """What an encoder says of a picture that is all white, in words; nothing where it reads texts alone."""
    if encoder.sight is None:
        return ""
    white = io.BytesIO()
    Image.new("RGB", (64, 48), "white").save(white, "PNG")
    (seen,) = encoder.sight.see([white.getvalue()])
    return f"; of pictures {len(seen.patches[0])} patches" if seen.patches else "; of pictures too"


def _tried_scorer(name: str) -> str:
    scorer = CrossEncoder(MODELS / name)
    scored = scorer.score(TRIED[0], [Passage(TRIED[1])])
    out.print(f"{name}: registered, {scorer.measure}; a passage that answers got {scored.scores[0]:.3f}.")
    return ""


@app.command("add-tokenizer")
def add_tokenizer(
    source: Annotated[Path, typer.Argument(help="A tokenizer.json, or a folder with one.")],
    name: Annotated[str, typer.Option(help="What recipes call it.")],
    title: Annotated[str, typer.Option(help="What people read.")] = "",
) -> None:
    """Register a tokenizer that counts the budget of a context, such as that of the assistant's model."""
    out.print(f"{register_tokenizer(source, MODELS, name, title)}: registered, a tokenizer.")


@app.command("add-remote")
def add_remote(
    name: Annotated[str, typer.Argument(help="What recipes call it.")],
    url: Annotated[str, typer.Argument(help="Address of the endpoint, without /encode.")],
    key_file: Annotated[Path | None, typer.Option(help="A file with the key that the endpoint wants.")] = None,
    timeout: Annotated[float, typer.Option(help="Seconds to wait for an answer.", min=0.1)] = 30,
    retries: Annotated[int, typer.Option(help="Times to try again, with longer and longer pauses.", min=0)] = 4,
    batch: Annotated[int, typer.Option(help="Texts a request.", min=1)] = 64,
    price: Annotated[float, typer.Option(help="Money for a million tokens, for trials to tell.", min=0)] = 0.0,
) -> None:
    """Register an encoder, a joint scorer, a writer, an answerer or an expander behind an HTTP endpoint."""
    key = ""
    if key_file is not None:
        try:
            key = key_file.read_text().strip()
        except OSError as error:
            raise DoppioError(f"{key_file}: cannot be read ({error.strerror})") from error
    settings = {"timeout": timeout, "retries": retries, "batch": batch, "price": price}
    found = register_remote(MODELS, name, url, key, settings=settings)
    if isinstance(found, ScorerFolder | TextFolder):
        what = TEXTS.get(found.kind, "joint scorer")
        out.print(f"{name}: registered, {'an' if what[0] in 'aeiou' else 'a'} {what}.")
        return
    out.print(f"{name}: registered, {found.dimension} numbers a vector; reads {found.reads}.")
    if found.warning:
        out.print(found.warning)


@app.command()
def remove(name: Annotated[str, typer.Argument(help="What recipes call it.")]) -> None:
    """Take an encoder or scorer out; recipes that name it can no longer be built."""
    if not (MODELS / checked_name(name, MODELS)).is_dir():
        raise DoppioError(f"{name}: no such model; './doppio model list' shows those there are")
    shutil.rmtree(MODELS / name)
    out.print(f"{name}: removed.")
