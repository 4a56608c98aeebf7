"""`./doppio model`: encoders and scorers that recipes can name. `./doppio stand-in`: an endpoint to try them with."""

import json
import shutil
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Annotated, Any

import typer
from rich import box
from rich.table import Table

from doppio.command.paths import MODELS
from doppio.command.show import out
from doppio.core.errors import DoppioError
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.encoder import Encoder
from doppio.core.models.folder import (
    LIKENESS,
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
from doppio.core.models.kept_scores import KeptScores
from doppio.core.models.registry import Models
from doppio.core.models.remote import FORMAT, SCORE_FORMAT, register_remote
from doppio.core.models.scorer_folder import KINDS, ScorerFolder, prepare_pair, register_scorer

app = typer.Typer(
    help="Encoders and joint scorers that recipes can name.", no_args_is_help=True, rich_markup_mode=None
)
TRIED = ("Is the line closed in a gale?", "The line closes when the mean wind reaches 18 m/s.")
MOST_BYTES = 50_000_000


@app.command("list")
def listed() -> None:
    """Show the registered encoders and joint scorers."""
    models = Models(MODELS)
    table = Table("encoder", "title", "numbers", "tokens", "made for", "where", box=box.SIMPLE_HEAD)
    for folder in models.listed():
        where = "endpoint" if folder.settings else "here"
        table.add_row(
            folder.name, folder.title, str(folder.dimension), str(folder.max_tokens), folder.made_for, where
        )
    out.print(table)
    table = Table("joint scorer", "title", "tokens", "score", "blend", "where", box=box.SIMPLE_HEAD)
    for scorer in models.scorers():
        where, tokens = ("endpoint", "") if scorer.settings else ("here", str(scorer.max_tokens))
        score = "probability" if scorer.calibration else "raw"
        table.add_row(scorer.name, scorer.title, tokens, score, f"{scorer.blend:g}", where)
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
    out.print(f"{name}: registered, {encoder.dimension} numbers a vector.")
    return encoder.warning


def _tried_scorer(name: str) -> str:
    scorer = CrossEncoder(MODELS / name)
    scored = scorer.score(TRIED[0], [Passage(TRIED[1])])
    out.print(f"{name}: registered, {scorer.measure}; a passage that answers got {scored.scores[0]:.3f}.")
    return ""


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
    """Register an encoder or a joint scorer that an HTTP endpoint runs."""
    key = ""
    if key_file is not None:
        try:
            key = key_file.read_text().strip()
        except OSError as error:
            raise DoppioError(f"{key_file}: cannot be read ({error.strerror})") from error
    settings = {"timeout": timeout, "retries": retries, "batch": batch, "price": price}
    found = register_remote(MODELS, name, url, key, settings=settings)
    if isinstance(found, ScorerFolder):
        out.print(f"{name}: registered, a joint scorer.")
        return
    out.print(f"{name}: registered, {found.dimension} numbers a vector.")
    if found.warning:
        out.print(found.warning)


@app.command()
def remove(name: Annotated[str, typer.Argument(help="What recipes call it.")]) -> None:
    """Take an encoder or scorer out; recipes that name it can no longer be built."""
    if not (MODELS / checked_name(name, MODELS)).is_dir():
        raise DoppioError(f"{name}: no such model; './doppio model list' shows those there are")
    shutil.rmtree(MODELS / name)
    out.print(f"{name}: removed.")


def stand_in(
    port: Annotated[int, typer.Option(help="On the loopback address.", min=0, max=65535)] = 8790,
    model: Annotated[str, typer.Option(help="The registered encoder or scorer that answers.")] = "compact-english",
    key: Annotated[str, typer.Option(help="Refuse requests without this key.")] = "",
) -> None:
    """Run an endpoint for remote encoders or scorers, answered by a model of this machine."""
    models = Models(MODELS)
    inner: Any
    if any(folder.name == model for folder in models.scorers()):
        kept = models.scorer(model)
        inner = kept.scorer if isinstance(kept, KeptScores) else kept
    else:
        inner = models.encoder(model)
    if not isinstance(inner, Encoder | CrossEncoder):
        raise DoppioError(f"--model: {model!r} runs elsewhere; name one that runs here")
    server = stand_in_server(inner, port, key)
    what = "encoder" if isinstance(inner, Encoder) else "joint scorer"
    out.print(f"Stand-in for a remote {what}: http://127.0.0.1:{server.server_address[1]}   Ctrl-C stops it.")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        server.server_close()


def stand_in_server(model: Encoder | CrossEncoder, port: int, key: str = "") -> ThreadingHTTPServer:
    """The endpoint's server, not yet running."""
    answers = _Encoding(model) if isinstance(model, Encoder) else _Scoring(model)

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path != "/model":
                self._answer(404, {"detail": f"only /model and {answers.path} are here"})
                return
            self._answer(200, answers.about())

        def do_POST(self) -> None:
            self._answer(*self._answered())

        def _answered(self) -> tuple[int, dict[str, Any]]:
            if key and self.headers.get("Authorization") != f"Bearer {key}":
                return 401, {"detail": "the key is missing or wrong"}
            size = int(self.headers.get("Content-Length", 0))
            if size > MOST_BYTES:
                return 413, {"detail": f"more than {MOST_BYTES:,} bytes"}
            if self.path != answers.path:
                return 404, {"detail": f"only /model and {answers.path} are here"}
            try:
                return 200, answers.answer(json.loads(self.rfile.read(size)))
            except (ValueError, KeyError, TypeError):
                return 400, {"detail": f"wanted: {answers.wanted}"}

        def _answer(self, status: int, body: dict[str, Any]) -> None:
            data = json.dumps(body).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, *_: object) -> None:
            return None

    return ThreadingHTTPServer(("127.0.0.1", port), Handler)


class _Encoding:
    """What the endpoint says where an encoder answers."""

    path = "/encode"
    wanted = f"format {FORMAT!r}, as 'question' or 'passage', and texts"

    def __init__(self, encoder: Encoder) -> None:
        self._encoder = encoder

    def about(self) -> dict[str, Any]:
        encoder = self._encoder
        about = {"name": encoder.title, "version": encoder.digest, "dimension": encoder.dimension}
        limits = {"max_tokens": encoder.folder.max_tokens, "unit": encoder.unit}
        return {**about, **limits, "made_for": LIKENESS if encoder.warning else QUESTIONS}

    def answer(self, given: dict[str, Any]) -> dict[str, Any]:
        texts = _texts(given, FORMAT, "texts")
        encode = {"question": self._encoder.questions, "passage": self._encoder.vectors}[given["as"]]
        return {"vectors": encode(texts).tolist()}


class _Scoring:
    """What the endpoint says where a joint scorer answers."""

    path = "/score"
    wanted = f"format {SCORE_FORMAT!r}, question, and passages"

    def __init__(self, scorer: CrossEncoder) -> None:
        self._scorer = scorer

    def about(self) -> dict[str, Any]:
        scorer = self._scorer
        return {"kind": "scorer", "name": scorer.title, "version": scorer.digest, "measure": scorer.measure}

    def answer(self, given: dict[str, Any]) -> dict[str, Any]:
        texts = _texts(given, SCORE_FORMAT, "passages")
        (question,) = _texts({**given, "question": [given["question"]]}, SCORE_FORMAT, "question")
        return {"scores": self._scorer.score(question, [Passage(text) for text in texts]).scores.tolist()}


def _texts(given: dict[str, Any], form: str, field: str) -> list[str]:
    """A list of texts from a request.

    Raises
    ------
    ValueError, KeyError
        If it is not what the protocol wants.
    """
    texts = given[field]
    if given["format"] != form or not isinstance(texts, list) or not all(isinstance(text, str) for text in texts):
        raise ValueError
    return texts
