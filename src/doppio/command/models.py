"""`./doppio model`: which encoders recipes can name. `./doppio stand-in`: an endpoint to try a remote one with."""

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
from doppio.core.models.encoder import Encoder
from doppio.core.models.folder import LIKENESS, MADE_FOR, QUESTIONS, checked_name, prepare_encoder, register_folder
from doppio.core.models.registry import Models
from doppio.core.models.remote import FORMAT, register_remote

app = typer.Typer(help="Encoders that recipes can name.", no_args_is_help=True)
TRIED = ("Is the line closed in a gale?", "The line closes when the mean wind reaches 18 m/s.")
MOST_BYTES = 50_000_000


@app.command("list")
def listed() -> None:
    """Show the registered encoders."""
    table = Table("name", "title", "numbers", "tokens", "made for", "where", box=box.SIMPLE_HEAD)
    for folder in Models(MODELS).listed():
        where = "endpoint" if folder.settings else "here"
        table.add_row(
            folder.name, folder.title, str(folder.dimension), str(folder.max_tokens), folder.made_for, where
        )
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
) -> None:  # fmt: skip
    """Register an encoder from a folder; it is copied, and nothing in it is executed."""
    if (folder / "model.safetensors").exists():
        if made_for not in MADE_FOR:
            raise DoppioError(f"--made-for: {made_for!r} is not one of {', '.join(MADE_FOR)}")
        wanted = checked_name(name or folder.name, folder)
        given = {"name": wanted, "title": title or wanted, "max_tokens": max_tokens, "licence": licence}
        prepare_encoder(folder, MODELS / wanted, **given, made_for=made_for)  # type: ignore[arg-type]
    else:
        wanted = register_folder(folder, MODELS).name
    try:
        encoder = Encoder(MODELS / wanted)
        encoder.questions(TRIED)
    except DoppioError:
        shutil.rmtree(MODELS / wanted)
        raise
    out.print(f"{wanted}: registered, {encoder.dimension} numbers a vector.")
    if encoder.warning:
        out.print(encoder.warning)


@app.command("add-remote")
def add_remote(
    name: Annotated[str, typer.Argument(help="What recipes call it.")],
    url: Annotated[str, typer.Argument(help="Address of the endpoint, without /encode.")],
    key_file: Annotated[Path | None, typer.Option(help="A file with the key that the endpoint wants.")] = None,
    timeout: Annotated[float, typer.Option(help="Seconds to wait for an answer.", min=0.1)] = 30,
    retries: Annotated[int, typer.Option(help="Times to try again, with longer and longer pauses.", min=0)] = 4,
    batch: Annotated[int, typer.Option(help="Texts a request.", min=1)] = 64,
) -> None:
    """Register an encoder that an HTTP endpoint runs."""
    key = ""
    if key_file is not None:
        try:
            key = key_file.read_text().strip()
        except OSError as error:
            raise DoppioError(f"{key_file}: cannot be read ({error.strerror})") from error
    settings = {"timeout": timeout, "retries": retries, "batch": batch}
    found = register_remote(MODELS, name, url, key, settings=settings)
    out.print(f"{name}: registered, {found.dimension} numbers a vector.")
    if found.warning:
        out.print(found.warning)


@app.command()
def remove(name: Annotated[str, typer.Argument(help="What recipes call it.")]) -> None:
    """Take an encoder out; recipes that name it can no longer be built."""
    if not (MODELS / checked_name(name, MODELS)).is_dir():
        raise DoppioError(f"{name}: no such encoder; './doppio model list' shows those there are")
    shutil.rmtree(MODELS / name)
    out.print(f"{name}: removed.")


def stand_in(
    port: Annotated[int, typer.Option(help="On the loopback address.", min=0, max=65535)] = 8790,
    model: Annotated[str, typer.Option(help="The registered encoder that answers.")] = "compact-english",
    key: Annotated[str, typer.Option(help="Refuse requests without this key.")] = "",
) -> None:
    """Run an endpoint for remote encoders, answered by an encoder of this machine."""
    encoder = Models(MODELS).encoder(model)
    if not isinstance(encoder, Encoder):
        raise DoppioError(f"--model: {model!r} runs elsewhere; name one that runs here")
    server = stand_in_server(encoder, port, key)
    out.print(f"Stand-in for a remote encoder: http://127.0.0.1:{server.server_address[1]}   Ctrl-C stops it.")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        server.server_close()


def stand_in_server(encoder: Encoder, port: int, key: str = "") -> ThreadingHTTPServer:
    """The endpoint's server, not yet running."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path != "/model":
                self._answer(404, {"detail": "only /model and /encode are here"})
                return
            about = {"name": encoder.title, "version": encoder.digest, "dimension": encoder.dimension}
            limits = {"max_tokens": encoder.folder.max_tokens, "unit": encoder.unit}
            made_for = LIKENESS if encoder.warning else QUESTIONS
            self._answer(200, {**about, **limits, "made_for": made_for})

        def do_POST(self) -> None:
            self._answer(*self._encoded())

        def _encoded(self) -> tuple[int, dict[str, Any]]:
            if key and self.headers.get("Authorization") != f"Bearer {key}":
                return 401, {"detail": "the key is missing or wrong"}
            size = int(self.headers.get("Content-Length", 0))
            if size > MOST_BYTES:
                return 413, {"detail": f"more than {MOST_BYTES:,} bytes"}
            try:
                given = json.loads(self.rfile.read(size))
                texts = given["texts"]
                if given["format"] != FORMAT or not all(isinstance(text, str) for text in texts):
                    raise ValueError
                encode = {"question": encoder.questions, "passage": encoder.vectors}[given["as"]]
            except (ValueError, KeyError, TypeError):
                said = f"wanted: format {FORMAT!r}, as 'question' or 'passage', and texts"
                return 400, {"detail": said}
            return 200, {"vectors": encode(texts).tolist()}

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
