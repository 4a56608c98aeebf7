"""Wordings from a thesaurus, from the corpus's vocabulary and from elsewhere; answers from elsewhere."""

import json
import tempfile
import threading
import unittest
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

from doppio.command.stand_in import Expanding, Extracting, Writing, stand_in_server
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ModelFolderError, RemoteError
from doppio.core.models.registry import Models
from doppio.core.models.remote import register_remote
from doppio.core.models.remote_text import EXPAND_FORMAT
from doppio.core.question.kind import WORDINGS
from doppio.core.select.answer.kind import ANSWERS, HandedOn
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import corpus_fingerprint
from doppio.core.text.thesaurus import NAMED, Thesaurus, installed
from tests.core.corpus import MODELS, documents, encoder, recipe

# As wndb(5WN) lays files out; made up, with the licence's lines before the words.
LICENCE = "  1 Made for this test. \n  2 A line of a licence begins with blanks. \n"
SYNSETS = {
    "noun": ((("dog", "domestic_dog"), "a beast"), (("dog", "frump"), "a person"), (("gondola", "car"), "it hangs"),
             (("dogma", "tenet"), "a belief"), (("man", "adult_male"), "who works")),
    "verb": ((("dog", "chase", "tail"), "to follow"), (("ride", "sit"), "to be carried")),
    "adj": ((("afraid(p)", "fearful"), "with fear"),),
    "adv": (),
}  # fmt: skip
IRREGULAR = {"noun": "men man\noxen ox\n", "verb": "ridden ride\nrode ride\n", "adj": "", "adv": ""}


def write_thesaurus(folder):
    for part, sets in SYNSETS.items():
        data, places = LICENCE, {}
        for words, gloss in sets:
            at = len(data.encode())
            told = " ".join(f"{word} 0" for word in words)
            data += f"{at:08d} 05 {part[0]} {len(words):02x} {told} 000 | {gloss}  \n"
            for word in words:
                places.setdefault(word.partition("(")[0], []).append(at)
        lines = [
            f"{word} {part[0]} {len(own)} 1 @ {len(own)} 0 {' '.join(f'{at:08d}' for at in own)}  \n"
            for word, own in places.items()
        ]
        (folder / f"data.{part}").write_text(data)
        (folder / f"index.{part}").write_text(LICENCE + "".join(sorted(lines)))
        (folder / f"{part}.exc").write_text(IRREGULAR[part])


class OfAThesaurus(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        write_thesaurus(self.folder)

    def test_words_of_the_commonest_senses(self):
        found = Thesaurus(self.folder)
        self.assertEqual(found.alike("dog", 1), ("domestic dog", "chase", "tail"))
        self.assertEqual(found.alike("dog", 2), ("domestic dog", "frump", "chase", "tail"))
        self.assertEqual(found.alike("gondolas", 1), ("car",))
        self.assertEqual(found.alike("men", 1), ("adult male",))
        self.assertEqual(found.alike("rode", 1), ("sit",))
        self.assertEqual(found.alike("afraid", 1), ("fearful",))
        self.assertEqual(found.alike("DOGMA", 1), ("tenet",))
        for unknown in ("dogs'", "do", "zebra", "", "licence", "1", "dogmatic", "hündin"):
            self.assertEqual(found.alike(unknown, 3), ())

    def test_only_what_the_corpus_holds_is_added(self):
        corpus = SimpleNamespace(
            language="en", rarity=lambda words: [float(word in ("car", "sit", "chase")) for word in words]
        )
        told = {"senses": 1, "terms": 1, "weight": 0.4}
        with mock.patch.dict("os.environ", {NAMED: str(self.folder)}):
            [wording] = WORDINGS.get("thesaurus").wordings("Does a dog ride in the gondola?", corpus, told)
            added = {word for word, weight in wording.words.items() if weight == 0.4}
            self.assertEqual(added, {"chase", "sit", "car"})
            self.assertEqual(wording.words["gondola"], 1.0)
            self.assertTrue(wording.text.startswith("Does a dog ride in the gondola?"))
            self.assertEqual(WORDINGS.get("thesaurus").wordings("Zebra?", corpus, told), [])
            corpus.language = "de"
            self.assertEqual(WORDINGS.get("thesaurus").wordings("Does a dog ride?", corpus, told), [])
        with mock.patch.dict("os.environ", {NAMED: str(self.folder / "none")}):
            self.assertIsNone(installed())


class Serving(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.models = Models(self.root)
        (self.root / "compact-english").symlink_to(MODELS / "compact-english")

    def serve(self, server):
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_address[1]}"

    def saying(self, kind, body):
        """An endpoint that says something fixed, as it is."""

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                self.say(json.dumps({"kind": kind, "name": "x", "version": "1"}).encode())

            def do_POST(self):
                self.rfile.read(int(self.headers["Content-Length"]))
                self.say(body)

            def say(self, data):
                self.send_response(200)
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_):
                return None

        return self.serve(ThreadingHTTPServer(("127.0.0.1", 0), Handler))

    def register(self, url, key=""):
        return register_remote(self.root, "far", url, key, settings={"retries": 0, "timeout": 5})


class FromElsewhere(Serving):
    PIECES = (HandedOn(1, 3, 10, "A dog rides for 6 crowns a day. It sits.", "Dogs", 0),
              HandedOn(2, 4, 0, "The gondola stops in wind.", "Wind", 1))  # fmt: skip

    def answerer(self):
        return ANSWERS.get("remote").open({"answerer": "far"}, self.models, encoder())

    def test_the_stand_in_answers_sentence_by_sentence_with_citations(self):
        kind = ANSWERS.get("sentences")
        own = kind.open({one.name: one.default for one in kind.settings}, self.models, encoder())
        self.register(self.serve(stand_in_server(Extracting(own), 0, "secret")), "secret")
        question = "What does a dog pay for a day?"
        far, near = self.answerer().answer(question, self.PIECES), own.answer(question, self.PIECES)
        self.assertEqual([one.text for one in far.sentences], [one.text for one in near.sentences])
        for said in far.sentences:
            piece = self.PIECES[said.cites[0] - 1]
            self.assertEqual(piece.document, said.document)
            self.assertEqual(piece.text[said.start - piece.start : said.end - piece.start], said.text)
        self.assertEqual(self.answerer().answer(question, []).silent, "nothing was handed on")

    def test_sentences_come_as_they_are_said_and_silence_has_its_reason(self):
        lines = [{"text": "Six crowns.", "cites": [1]}, {"text": "It sits.", "cites": [1]}, {"done": True}]
        self.register(self.saying("answerer", b"\n".join(json.dumps(line).encode() for line in lines)))
        grown = list(self.answerer().stream("?", self.PIECES))
        self.assertEqual([len(one.sentences) for one in grown], [1, 2])
        first, second = grown[-1].sentences
        self.assertEqual((first.start, first.document), (-1, -1))
        self.assertEqual((second.start, second.end), (10 + 32, 10 + 40))
        self.register(self.saying("answerer", b'{"silent": "nothing fits"}\n{"done": true}\n'))
        self.assertEqual(self.answerer().answer("?", self.PIECES).silent, "nothing fits")

    def test_a_sentence_is_there_before_the_next_is_sent(self):
        seen, asked = threading.Event(), []

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                self.say(json.dumps({"kind": "answerer", "name": "x", "version": "1"}).encode())

            def do_POST(self):
                self.rfile.read(int(self.headers["Content-Length"]))
                self.say(b'{"text": "One.", "cites": [1]}\n')
                self.wfile.flush()
                # Only who has read the first sentence gets the second.
                asked.append(seen.wait(20))
                self.wfile.write(b'{"text": "Two.", "cites": [1]}\n{"done": true}\n')

            def say(self, data):
                self.send_response(200)
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_):
                return None

        self.register(self.serve(ThreadingHTTPServer(("127.0.0.1", 0), Handler)))
        stream = self.answerer().stream("?", self.PIECES)
        self.assertEqual(next(stream).text, "One.")
        seen.set()
        self.assertEqual(next(stream).text, "One. Two.")
        self.assertEqual(asked, [True])

    def test_what_is_no_answer_is_refused_by_name(self):
        for body, told in (
            (
                b'{"text": "x", "cites": [3]}\n{"done": true}',
                r"`cites` is \[3\]; the passages have the num",
            ),
            (b'{"text": "x", "cites": [1]}\n', "stopped before it was done"),
            (b'{"text": ""}\n{"done": true}', "neither `text` nor `silent`"),
            (b"hello\n", "not JSON"),
            (b"[1]\n", "not a JSON object"),
        ):
            self.register(self.saying("answerer", body))
            with self.assertRaisesRegex(RemoteError, told):
                self.answerer().answer("?", self.PIECES)
        with self.assertRaisesRegex(ModelFolderError, "kind: 'painter' is not one of"):
            self.register(self.saying("painter", b""))
        with self.assertRaisesRegex(ModelFolderError, "is no answerer"):
            self.models.answerer("compact-english")
        with self.assertRaisesRegex(ModelFolderError, "far: is no encoder"):
            self.models.encoder("far")

    def test_a_writer_rewords_and_its_wordings_are_searched_by(self):
        self.register(self.serve(stand_in_server(Writing(), 0)))
        given = recipe(
            question={"wordings": [{"kind": "remote", "writer": "far"}], "hint": "ropeways", "least_cosine": None},
            rerank=None,
        )
        corpus = documents()
        builder = Builder(ArtifactStore(self.root / "store"), self.models)
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, builder.chunks(corpus, key, given))
        builder.indexes(key, given, texts)
        pipeline = builder.open(key, given, texts)
        own, *others = pipeline.ask("How do I borrow a muzzle?").asked.wordings
        self.assertEqual(own.text, "How do I borrow a muzzle?")
        self.assertEqual([one.text for one in others],
                         ["borrow a muzzle", "borrow muzzle", "ropeways: borrow a muzzle"])  # fmt: skip
        self.assertEqual({one.source for one in others}, {"writer far"})
        self.register(self.saying("writer", b'{"wordings": "no"}'))
        again = builder.open(key, given, texts)
        with self.assertRaisesRegex(RemoteError, "`wordings` is missing or not a list"):
            again.ask("How do I borrow a muzzle?")

    def built(self, corpus, given):
        builder = Builder(ArtifactStore(self.root / "store"), self.models)
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, builder.chunks(corpus, key, given))
        builder.indexes(key, given, texts)
        return builder.open(key, given, texts)

    def test_an_expander_names_terms_for_chunks_and_questions(self):
        stands = Expanding(encoder(), 300)
        self.register(self.serve(stand_in_server(stands, 0, "secret")), "secret")
        own = {"passage_terms": 6, "question_terms": 4, "passage_weight": 0.5, "question_weight": 0.4}
        branch = {"id": "far", "kind": "expanded-remote", "expander": "far", **own}
        given = recipe(branches=[branch], rerank=None)
        corpus = documents()
        pipeline = self.built(corpus, given)
        opened, analysis = pipeline.branches["far"], Analysis()
        texts = pipeline.texts.indexed(range(len(pipeline.chunks)))
        told = stands.answer({"format": EXPAND_FORMAT, "as": "passage", "texts": texts, "most": 6})["terms"]
        for chunk, (text, words, added) in enumerate(
            zip(texts, told, opened.added_to(range(len(texts))), strict=True)
        ):
            held = {term.text for term in analysis.terms(text)}
            wanted = {}
            for word, weight in words:
                [term] = [term.text for term in analysis.asked(word)] or [""]
                if term and term not in held:
                    wanted[term] = max(wanted.get(term, 0), min(15, max(1, round(weight * 0.5 * 16))) / 16)
            self.assertEqual({one.term: one.weight for one in added}, wanted)
            for term, weight in wanted.items():
                holders, counts = opened.index.holders(term)
                self.assertEqual(dict(zip(holders.tolist(), counts.tolist(), strict=True))[chunk], weight * 16)
        question = "May my puppy travel?"
        [row] = opened.explain(question, [0])
        added = {one.term: one.in_question for one in row.terms if one.added_to_question}
        [words] = stands.answer({"format": EXPAND_FORMAT, "as": "question", "texts": [question], "most": 4})["terms"]
        self.assertEqual(set(added), {term.text for word, _ in words for term in analysis.asked(word)} - {"may"})
        self.assertAlmostEqual(max(added.values()), 0.4 * max(weight for _, weight in words), places=5)
        # A document that is new sends its own chunks alone.
        with mock.patch.object(stands, "answer", wraps=stands.answer) as asked:
            self.built([*corpus, replace(corpus[0], id="zebra.md", title="Zebra")], given)
        sent = [text for call in asked.call_args_list for text in call.args[0]["texts"]]
        self.assertEqual(len(sent), int((pipeline.chunks.document == 0).sum()))

    def test_what_no_expander_says_is_refused(self):
        branch = {"id": "far", "kind": "expanded-remote", "expander": "far", "question_terms": 0}
        given = recipe(branches=[branch], rerank=None)
        for body, told in (
            (b'{"terms": []}', "not a list for each"),
            (b'{"terms": 3}', "not a list for each"),
        ):
            self.register(self.saying("expander", body))
            with self.assertRaisesRegex(RemoteError, told):
                self.built(documents(), given)
        for word, told in (('["x", 2]', "is no word with a weight"), ('"x"', "is no word with a weight")):
            self.register(self.saying("expander", f'{{"terms": [[{word}]]}}'.encode()))
            with self.assertRaisesRegex(RemoteError, told):
                self.models.expander("far").question("x", 3)

    def test_words_near_in_the_vocabulary_are_a_wording_where_a_branch_has_them(self):
        near = {"question": {"wordings": [{"kind": "near-words", "terms": 3}], "least_cosine": None}, "rerank": None}
        corpus = documents()
        builder = Builder(ArtifactStore(self.root / "store"), self.models)
        key = corpus_fingerprint(corpus)
        for branches, most in (([{"id": "wide", "kind": "expanded"}], 3), ([{"id": "sparse", "kind": "bm25"}], 0)):
            given = recipe(branches=branches, **near)
            texts = CorpusTexts(corpus, builder.chunks(corpus, key, given))
            builder.indexes(key, given, texts)
            pipeline = builder.open(key, given, texts)
            _, *others = pipeline.ask("May my puppy travel?").asked.wordings
            self.assertEqual(len(others), min(most, 1))
            for one in others:
                more = [word for word, weight in one.words.items() if weight < 1]
                self.assertTrue(1 <= len(more) <= 3)
                known = set(pipeline.branches["wide"].vocabulary.words)
                self.assertTrue(set(more) <= known)
