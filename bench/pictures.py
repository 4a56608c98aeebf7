"""Pictures found by pictures and by words: how often the right one comes first, beside captions alone.

    .venv/bin/python bench/pictures.py [--pictures 2000] [--asked 300] [--words-only]

Everything is drawn here and nobody tuned to it. By picture: edited pictures are asked by, and the same picture must
come first. By words: captions of a part are hidden, and every picture is asked for by a question that its caption
answers, and must itself be among the first five; terms of the captions that are left are one side, the branches of
pictures and of terms read on them the other, each alone and fused.
"""

import argparse
import io
import json
import sys
import tempfile
import time
from pathlib import Path

sys.path[:0] = [str(Path(__file__).resolve().parents[1]), str(Path(__file__).resolve().parents[1] / "src")]

import numpy as np  # noqa: E402
from bench.made_pictures import EDITS, made  # noqa: E402

from doppio.command.paths import MODELS  # noqa: E402
from doppio.core.build.builder import Builder  # noqa: E402
from doppio.core.chunking.table import CorpusTexts  # noqa: E402
from doppio.core.models.registry import Models  # noqa: E402
from doppio.core.question.reading import Beside  # noqa: E402
from doppio.core.recipe.check import check  # noqa: E402
from doppio.core.store.artifacts import ArtifactStore  # noqa: E402
from doppio.core.text.document import Document, DocumentBuilder, corpus_fingerprint  # noqa: E402

HIDDEN = 0.4
RECIPE = {
    "format": "doppio-recipe/1", "name": "pictures",
    "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 160},
    "fusion": {"method": "reciprocal-rank"}, "select": {"k": 5},
}  # fmt: skip


def packed(picture, kind="PNG", **more):
    target = io.BytesIO()
    picture.save(target, kind, **more)
    return target.getvalue()


def document(number, caption):
    """A sheet with one picture on it, and its caption where it is not hidden."""
    one = made(number)
    data = packed(one.picture)
    builder = DocumentBuilder()
    builder.add("paragraph", f"Sheet {number}")
    builder.picture(*one.picture.size, lambda: data, of=data, alt=one.caption if caption else "")
    return builder.build(f"sheet-{number}", f"Sheet {number}")


def opened(documents: list[Document], branches, place):
    recipe = check({**RECIPE, "branches": branches})
    builder = Builder(ArtifactStore(place), Models(MODELS))
    key = corpus_fingerprint(documents)
    texts = CorpusTexts(documents, builder.chunks(documents, key, recipe), "none")
    begun = time.perf_counter()
    builder.indexes(key, recipe, texts)
    return builder.open(key, recipe, texts), time.perf_counter() - begun


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--pictures", type=int, default=2000)
    parser.add_argument("--asked", type=int, default=300)
    parser.add_argument("--words-only", action="store_true", help="do not ask by pictures")
    parser.add_argument("--no-reading", action="store_true", help="read nothing: the looks alone")
    given = parser.parse_args()
    dice = np.random.default_rng(3)
    hidden = dice.random(given.pictures) < HIDDEN
    documents = [document(number, not hidden[number]) for number in range(given.pictures)]
    found = {"pictures": given.pictures, "captions hidden": int(hidden.sum())}
    if given.no_reading:
        import doppio.core.chunking.table as table

        table.read_picture = lambda drawn: []
    with tempfile.TemporaryDirectory() as place:
        both = [{"id": "shown", "kind": "pictures"}, {"id": "read", "kind": "picture-words", "lent": 1}]
        shown, seconds = opened(documents, both, Path(place) / "a")
        terms, _ = opened(documents, [{"id": "terms", "kind": "bm25"}], Path(place) / "b")
        found["seconds a picture, to look at and read"] = round(seconds / given.pictures, 3)
        asked = dice.choice(given.pictures, given.asked, replace=False).tolist()
        first, took = {}, []
        for name, edit in ({} if given.words_only else EDITS).items():
            right = 0
            for number in asked:
                data = packed(edit(made(number).picture, dice).convert("RGB"), "JPEG", quality=70)
                begun = time.perf_counter()
                trace = shown.ask("", Beside(picture=data))
                took.append(time.perf_counter() - begun)
                chunks = trace.stage("shown").chunks
                right += bool(len(chunks)) and int(shown.chunks.document[chunks[0]]) == number
            first[name] = round(right / len(asked), 3)
        if first:
            found["by picture, in the first place"] = first
            found["milliseconds a question"] = round(1000 * float(np.median(took)), 1)
        found["by words, recall@5"] = {}
        for name, some in (("hidden", hidden), ("shown", ~hidden), ("all", np.ones_like(hidden))):
            numbers = [number for number in asked if some[number]]
            found["by words, recall@5"][name] = {
                told: round(float(np.mean([_hit(pipeline, stage, number) for number in numbers])), 3)
                for told, pipeline, stage in (
                    ("terms of captions", terms, "terms"), ("pictures", shown, "shown"),
                    ("terms read on them", shown, "read"), ("both fused", shown, "fused"),
                )
            }  # fmt: skip
    print(json.dumps(found, indent=1))


def _hit(pipeline, stage, number):
    """Whether the very sheet that was asked for is among the first five; others may show the same."""
    chunks = pipeline.ask(f"Where is a picture of this: {made(number).caption.lower()}?").stage(stage).chunks[:5]
    return number in pipeline.chunks.document[chunks].tolist()


if __name__ == "__main__":
    main()
