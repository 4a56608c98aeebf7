"""`./doppio stand-in`: an endpoint to try remote encoders, scorers, writers, answerers and expanders with."""

import base64
import json
import re
from collections.abc import Iterator, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Annotated, Any, Protocol

import typer

from doppio.command.paths import MODELS
from doppio.command.show import out
from doppio.core.branches.sparse.vocabulary import Vocabulary, gather
from doppio.core.errors import DoppioError
from doppio.core.kinds import ANSWERER, EXPANDER, WRITER
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.encoder import Encoder
from doppio.core.models.folder import LIKENESS, QUESTIONS
from doppio.core.models.joint import Passage
from doppio.core.models.kept_scores import KeptScores
from doppio.core.models.registry import Models
from doppio.core.models.remote import FORMAT, SCORE_FORMAT
from doppio.core.models.remote_sight import SEE_FORMAT
from doppio.core.models.remote_text import ANSWER_FORMAT, EXPAND_FORMAT, WRITE_FORMAT
from doppio.core.progress import Silent
from doppio.core.select.answer.kind import ANSWERS, Answerer, HandedOn
from doppio.core.text.analysis import Analysis
from doppio.core.text.stop_words import STOP_WORDS
from doppio.core.text.units import folded_words

MOST_BYTES = 50_000_000
# Words of its tokenizer that the stand-in of an expander knows.
WORDS_KNOWN = 4000
_ASKING = re.compile(
    r"^(how (do|can|does|should|would) (i|we|you|one|it)|what (is|are|does)|where (is|are|can i)|(can|may) (i|we)) ",
    re.IGNORECASE,
)  # fmt: skip


class Answering(Protocol):
    """What an endpoint says.

    path : where it is asked
    wanted : what a request holds, for those that hold something else

    Where it is asked in other ways too, `more` has an answer by path.
    """

    path: str
    wanted: str

    def about(self) -> dict[str, Any]:
        """What it says of itself."""

    def answer(self, given: dict[str, Any]) -> dict[str, Any] | Iterator[dict[str, Any]]:
        """One object, or several, a line each."""


def stand_in(
    port: Annotated[int, typer.Option(help="On the loopback address.", min=0, max=65535)] = 8790,
    model: Annotated[str, typer.Option(help="The registered encoder or scorer that answers; or 'writer', which "
                                            "rewords by rule, 'answerer', which extracts, or 'expander', "
                                            "which knows common words.")] = "compact-english",
    key: Annotated[str, typer.Option(help="Refuse requests without this key.")] = "",
) -> None:  # fmt: skip
    """Run an endpoint for what recipes can name, answered by this machine."""
    models = Models(MODELS)
    inner: Any
    if model == WRITER:
        inner = Writing()
    elif model == ANSWERER:
        kind = ANSWERS.get("sentences")
        opened = kind.open({one.name: one.default for one in kind.settings}, models, models.local())
        assert opened is not None
        inner = Extracting(opened)
    elif model == EXPANDER:
        inner = Expanding(models.local())
    elif any(folder.name == model for folder in models.scorers()):
        kept = models.scorer(model)
        inner = kept.scorer if isinstance(kept, KeptScores) else kept
    else:
        inner = models.encoder(model)
    if not isinstance(inner, Encoder | CrossEncoder | Writing | Extracting | Expanding):
        raise DoppioError(f"--model: {model!r} runs elsewhere; name one that runs here")
    server = stand_in_server(inner, port, key)
    out.print(f"Stand-in ({model}): http://127.0.0.1:{server.server_address[1]}   Ctrl-C stops it.")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        server.server_close()


def stand_in_server(
    model: "Encoder | CrossEncoder | Writing | Extracting | Expanding", port: int, key: str = ""
) -> ThreadingHTTPServer:
    """The endpoint's server, not yet running."""
    answers: Answering
    if isinstance(model, Encoder):
        answers = _Encoding(model)
    elif isinstance(model, CrossEncoder):
        answers = _Scoring(model)
    else:
        answers = model

    more = getattr(answers, "more", {})

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path != "/model":
                self._answer(404, {"detail": f"only /model and {answers.path} are here"})
                return
            self._answer(200, answers.about())

        def do_POST(self) -> None:
            self._answer(*self._answered())

        def _answered(self) -> tuple[int, dict[str, Any] | Iterator[dict[str, Any]]]:
            if key and self.headers.get("Authorization") != f"Bearer {key}":
                return 401, {"detail": "the key is missing or wrong"}
            size = int(self.headers.get("Content-Length", 0))
            if size > MOST_BYTES:
                return 413, {"detail": f"more than {MOST_BYTES:,} bytes"}
            if self.path != answers.path and self.path not in more:
                return 404, {"detail": f"only /model and {answers.path} are here"}
            try:
                answer = more.get(self.path, answers.answer)
                return 200, answer(json.loads(self.rfile.read(size)))
            except (ValueError, KeyError, TypeError):
                return 400, {"detail": f"wanted: {answers.wanted}"}
            except DoppioError as error:
                return 400, {"detail": str(error)}

        def _answer(self, status: int, body: dict[str, Any] | Iterator[dict[str, Any]]) -> None:
            self.send_response(status)
            if not isinstance(body, dict):
                # Lines as they come; the end of the connection ends them.
                self.send_header("Content-Type", "application/jsonl")
                self.end_headers()
                for line in body:
                    self.wfile.write(json.dumps(line).encode() + b"\n")
                    self.wfile.flush()
                return
            data = json.dumps(body).encode()
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
        self.more = {"/see": self.see}

    def about(self) -> dict[str, Any]:
        encoder = self._encoder
        about = {"name": encoder.title, "version": encoder.digest, "dimension": encoder.dimension}
        limits = {"max_tokens": encoder.folder.max_tokens, "unit": encoder.unit}
        seen = {"pictures": {"grid": encoder.sight.grid}} if encoder.sight else {}
        more = {"made_for": LIKENESS if encoder.warning else QUESTIONS, "tokens": encoder.gives_tokens}
        return {**about, **limits, **more, **seen}

    def answer(self, given: dict[str, Any]) -> dict[str, Any]:
        texts = _texts(given, FORMAT, "texts")
        encode = {"question": self._encoder.questions, "passage": self._encoder.vectors}[given["as"]]
        found: dict[str, Any] = {"vectors": encode(texts).tolist()}
        if given.get("tokens"):
            told = [self._encoder.asked_tokens(text) for text in texts]
            found |= {"tokens": [own.vectors.tolist() for own in told], "words": [list(own.texts) for own in told]}
        return found

    def see(self, given: dict[str, Any]) -> dict[str, Any]:
        """What it says of pictures."""
        pictures = [base64.b64decode(text, validate=True) for text in _texts(given, SEE_FORMAT, "pictures")]
        sight = self._encoder.sight
        if sight is None:
            raise ValueError
        seen = list(sight.see(pictures))
        found: dict[str, Any] = {"vectors": [row for own in seen for row in own.vectors.tolist()]}
        if sight.grid:
            found["patches"] = [rows.tolist() for own in seen for rows in own.whole_grids()]
            found["covered"] = [[laid.right, laid.bottom] for own in seen for laid in own.laid]
        return found


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


class Writing:
    """A writer by rule: the question without what only asks, its words alone, and what the workspace is about."""

    path = "/write"
    wanted = f"format {WRITE_FORMAT!r}, question, about, language and most"

    def about(self) -> dict[str, Any]:
        return {"kind": WRITER, "name": "rewords by rule", "version": "1"}

    def answer(self, given: dict[str, Any]) -> dict[str, Any]:
        (question, about) = _texts({**given, "both": [given["question"], given["about"]]}, WRITE_FORMAT, "both")
        plain = question.strip().rstrip("?!. ")
        bare = _ASKING.sub("", plain)
        stopped = STOP_WORDS.get(str(given["language"]), STOP_WORDS["en"])
        words = " ".join(word for word in folded_words(plain) if word and word not in stopped)
        told = [bare, words, f"{about}: {bare}" if about.strip() else ""]
        found = [text for text in dict.fromkeys(told) if text and text != plain]
        return {"wordings": found[: int(given["most"])]}


class Extracting:
    """An answerer that extracts sentences, sent a line each."""

    path = "/answer"
    wanted = f"format {ANSWER_FORMAT!r}, question, and passages with number, place and text"

    def __init__(self, answerer: Answerer) -> None:
        self._answerer = answerer

    def about(self) -> dict[str, Any]:
        return {"kind": ANSWERER, "name": "sentences of the passages", "version": "1"}

    def answer(self, given: dict[str, Any]) -> Iterator[dict[str, Any]]:
        (question,) = _texts({**given, "question": [given["question"]]}, ANSWER_FORMAT, "question")
        pieces = [_piece(place, one) for place, one in enumerate(given["passages"])]
        return self._lines(question, pieces)

    def _lines(self, question: str, pieces: list[HandedOn]) -> Iterator[dict[str, Any]]:
        answer = self._answerer.answer(question, pieces)
        for said in answer.sentences:
            yield {"text": said.text, "cites": list(said.cites)}
        if answer.silent:
            yield {"silent": answer.silent}
        yield {"done": True}


class Expanding:
    """An expander that names the words of the encoder's own vocabulary nearest to a text."""

    path = "/expand"
    wanted = f"format {EXPAND_FORMAT!r}, as 'question' or 'passage', texts and most"

    def __init__(self, encoder: Encoder, known: int = WORDS_KNOWN) -> None:
        self._encoder = encoder
        plain = Analysis(stem=False)
        words = encoder.whole_words()[:known]
        arrays = gather(iter([" ".join(words)] * 2), plain, encoder, known, Silent())
        self._vocabulary, self._analysis = Vocabulary.opened(arrays), plain

    def about(self) -> dict[str, Any]:
        return {"kind": EXPANDER, "name": "nearest common words", "version": self._encoder.digest}

    def answer(self, given: dict[str, Any]) -> dict[str, Any]:
        texts = _texts(given, EXPAND_FORMAT, "texts")
        encode = {"question": self._encoder.questions, "passage": self._encoder.vectors}[given["as"]]
        held = [self._vocabulary.held(term.text for term in self._analysis.terms(text)) for text in texts]
        places, cosines = self._vocabulary.nearest(encode(texts), held, int(given["most"]))
        rows = zip(places.tolist(), cosines.tolist(), strict=True)
        return {
            "terms": [
                [
                    [self._vocabulary.words[place], min(near, 1.0)]
                    for place, near in zip(*row, strict=True)
                    if place >= 0
                ]
                for row in rows
            ]
        }


def _piece(place: int, given: Mapping[str, Any]) -> HandedOn:
    number, text = given["number"], given["text"]
    if not isinstance(number, int) or not isinstance(text, str):
        raise ValueError
    return HandedOn(number, 0, 0, text, str(given["place"]), place)


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
