"""Pages by patches: described by their words or seen by an encoder, searched, changed, merged, gone on with."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core.branches.patch import making
from doppio.core.branches.patch.by_words import described
from doppio.core.branches.query import Query
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DocumentError, RecipeError
from doppio.core.formats.documents import read_file
from doppio.core.formats.optical import ReadLine
from doppio.core.formats.pdf_lines import page_lines
from doppio.core.models.registry import Models
from doppio.core.question.reading import Beside
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import PARAGRAPH, DocumentBuilder, corpus_fingerprint
from doppio.core.text.pictures import moved, pages_between, whole_pages
from tests.core.corpus import MODELS, encoder, recipe
from tests.core.made_files import make_pdf
from tests.core.seeing import GRID, painted, registered

LINES = [("wind at the tower", (0.0, 0.0, 0.5, 0.1)), ("dogs", (0.5, 0.85, 0.75, 0.95))]
PAGES = {
    "wind.pdf": [["Wind rules", "The gondola stops at a mean wind of eighteen metres."], ["Ice is cleared at dawn."]],
    "dogs.pdf": [["A dog wears a muzzle in the cabin."], ["Muzzles are lent against a deposit."]],
    "rope.pdf": [["The haul rope is spliced every tenth year."], ["Grease is put on in spring."]],
}


def pdf(name):
    return read_file(make_pdf(PAGES[name]), name, readings={})[0]


def wall(name, *colours, broken=False):
    """A document of a painted picture."""
    data = painted(*colours)

    def draw():
        if broken:
            raise DocumentError("a broken picture")
        return data

    builder = DocumentBuilder()
    builder.add(PARAGRAPH, f"Sheet {name} of the paint shop.")
    builder.picture(64, 64, draw, of=data)
    return builder.build(name)


class Built(unittest.TestCase):
    encoder = "compact-english"

    def setUp(self):
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.models = Models(MODELS)

    def build(self, documents, place="store", more=(), **changes):
        branch = {"id": "pages", "kind": "patches", "encoder": self.encoder, "over_fetch": 50}
        chunking = {"rule": "pages", "unit": "tokens", "size": 400}
        body = {"chunking": chunking, "branches": [branch, *more], "rerank": None, **changes}
        wanted = recipe(**body)
        builder = Builder(ArtifactStore(self.root / place), self.models)
        key = corpus_fingerprint(documents)
        texts = CorpusTexts(documents, builder.chunks(documents, key, wanted), wanted.chunking["context"])
        builder.indexes(key, wanted, texts)
        return builder, key, wanted, builder.open(key, wanted, texts)

    @staticmethod
    def first(pipeline, question, stage="pages", **beside):
        found = pipeline.ask(question, Beside(**beside)).stage(stage).chunks
        if not len(found):
            return None
        chunks = pipeline.chunks
        return pipeline.texts.documents[chunks.document[found[0]]].id, pipeline.texts.texts([found[0]])[0]


class Pages(unittest.TestCase):
    def test_a_range_stands_on_the_pages_that_hold_any_of_it(self):
        begins, numbers = [0, 10, 10, 25], [1, 2, 3, 4]
        for start, end in ((a, b) for a in range(30) for b in range(a + 1, 31)):
            wanted = [
                number
                for number, low, high in zip(numbers, begins, [*begins[1:], 30], strict=True)
                if low < end and high > start
            ]
            found = list(pages_between(begins, numbers, start, end))
            # A page without text has no place of its own; it goes with those around it.
            self.assertEqual([one for one in found if one != 2], [one for one in wanted if one != 2], (start, end))
            low, high = whole_pages(begins, 30, start, end)
            self.assertTrue(low <= start and end <= high and low in begins and (high in begins or high == 30))
        self.assertEqual(whole_pages([], 30, 3, 9), (3, 9))

    def test_lines_of_a_page_are_where_they_are_seen(self):
        data = make_pdf([["First line", "Second line"], ["Another page"]])
        (first, above), (second, below) = page_lines(data, "a.pdf", 1)
        self.assertEqual((first, second), ("First line", "Second line"))
        self.assertLess(above[3], below[1] + 0.01)
        self.assertAlmostEqual(above[0], below[0], places=2)
        self.assertEqual([text for text, _ in page_lines(data, "a.pdf", 2)], ["Another page"])
        with self.assertRaisesRegex(DocumentError, "page 3 is not between 1 and 2"):
            page_lines(data, "a.pdf", 3)

    def test_a_line_of_a_picture_is_moved_to_where_the_picture_stands(self):
        self.assertEqual(moved(("a", (0.0, 0.5, 1.0, 1.0)), (0.5, 0.0, 1.0, 0.5)), ("a", (0.5, 0.25, 1.0, 0.5)))

    def test_one_chunk_a_page_whatever_is_on_it(self):
        document = pdf("wind.pdf")
        builder = Builder(ArtifactStore(Path(self.enterContext(tempfile.TemporaryDirectory()))), Models(MODELS))
        for size, wanted in ((400, 2), (8, 3)):
            cut = recipe(chunking={"rule": "pages", "unit": "tokens", "size": size})
            table = builder.chunks([document], f"{size}", cut)
            self.assertGreaterEqual(len(table), wanted)
            if size == 400:
                self.assertEqual(len(table), 2)
        plain = DocumentBuilder()
        for _ in range(9):
            plain.add(PARAGRAPH, "A document without pages is cut at its pauses.")
        cut = recipe(chunking={"rule": "pages", "unit": "tokens", "size": 24})
        self.assertGreater(len(builder.chunks([plain.build("plain")], "plain", cut)), 3)


class ByWords(unittest.TestCase):
    def test_a_patch_is_the_mean_of_the_tokens_that_stand_on_it(self):
        (found, empty) = described(encoder(), [LINES, []], 10, 8)
        together = " ".join(text for text, _ in LINES)
        (batch,) = encoder().encode([together], tokens=True)
        units = encoder().token_offsets([together])[0]
        cells = {}
        for vector, start, end in zip(batch.tokens[0], units.starts, units.ends, strict=True):
            line, at = (0, 0) if start < len(LINES[0][0]) else (1, len(LINES[0][0]) + 1)
            text, (left, top, right, bottom) = LINES[line]
            across = left + ((start + end) / 2 - at) / len(text) * (right - left)
            cells.setdefault((int((top + bottom) / 2 * 10), int(across * 8)), []).append(vector)
        self.assertEqual(found.cells.tolist(), sorted(row * 8 + column for row, column in cells))
        for vector, cell in zip(found.vectors, found.cells.tolist(), strict=True):
            mean = np.mean(cells[divmod(cell, 8)], axis=0)
            np.testing.assert_allclose(vector, mean / np.linalg.norm(mean), atol=1e-5)
        self.assertEqual(found.held.tolist(), sorted(set(batch.ids[0].tolist())))
        self.assertEqual((len(empty.vectors), len(empty.held)), (0, 0))

    def test_lines_of_any_number_are_all_read(self):
        lines = [(f"line {number} of the long list of parts", (0, number / 400, 1, (number + 1) / 400))
                 for number in range(400)]  # fmt: skip
        (found,) = described(encoder(), [lines], 100, 4)
        self.assertEqual(sorted(set((found.cells // 4).tolist())), list(range(100)))


class Asked(Built):
    @classmethod
    def setUpClass(cls):
        # One build for those that only ask.
        one = cls("build")
        one.root, one.models = Path(cls.enterClassContext(tempfile.TemporaryDirectory())), Models(MODELS)
        *_, cls.pipeline = one.build([pdf(name) for name in PAGES])

    def test_a_page_is_found_by_the_words_that_stand_on_it(self):
        pipeline = self.pipeline
        self.assertEqual(len(pipeline.chunks), 6)
        for question, name, page in (
            ("when does the gondola stop?", "wind.pdf", 0),
            ("ice", "wind.pdf", 1),
            ("deposit for a muzzle", "dogs.pdf", 1),
            ("splicing the rope", "rope.pdf", 0),
        ):
            with self.subTest(question):
                document, text = self.first(pipeline, question)
                self.assertEqual(document, name)
                self.assertIn(PAGES[name][page][-1], text)

    def test_scores_are_those_of_the_slow_sum(self):
        pipeline = self.pipeline
        # A mark says nothing.
        branch, question = pipeline.branches["pages"], "grease for the rope?"
        found = pipeline.ask(question).stage("pages")
        held = np.zeros(encoder().vocabulary_size)
        for sheets in pipeline.texts.sheets(range(6)):
            ids = np.concatenate([encoder().token_ids([text])[0] for text, _ in sheets[0].lines()])
            held[np.unique(ids)] += 1
        asked, ids = encoder().question_tokens(question)
        weights = np.log(1 + (6 - held[ids] + 0.5) / (held[ids] + 0.5)) * (np.arange(len(ids)) < len(ids) - 1)
        for chunk, score in zip(found.chunks.tolist(), found.scores.tolist(), strict=True):
            (sheet,) = branch.index.of(chunk)
            best = (sheet.vectors @ asked.T).max(axis=0)
            self.assertAlmostEqual(float(weights @ best) / weights.sum(), score, places=3)
            (shaded,) = branch.shaded(Query(question), chunk)
            self.assertAlmostEqual(shaded.score, score, places=3)
            self.assertEqual([match.token for match in shaded.matches], encoder().token_texts(ids))

    def test_the_word_is_shaded_where_it_stands(self):
        pipeline = self.pipeline
        chunk = int(pipeline.ask("a deposit for a muzzle").stage("pages").chunks[0])
        (line,) = [one for one in pipeline.texts.sheets([chunk])[0][0].lines() if "deposit" in one[0]]
        (shaded,) = pipeline.branches["pages"].shaded(Query("deposit"), chunk)
        left, top, right, bottom = shaded.places[shaded.matches[0].best]
        self.assertTrue(top <= (line[1][1] + line[1][3]) / 2 <= bottom)
        # It is the last word of its line.
        self.assertTrue(left <= line[1][2] - 0.01 <= right + 0.1, (left, right, line))

    def test_conditions_are_met(self):
        pipeline = self.pipeline
        found = pipeline.ask("muzzle", Beside(conditions="document is not dogs.pdf")).stage("pages").chunks
        names = {pipeline.texts.documents[pipeline.chunks.document[chunk]].id for chunk in found}
        self.assertEqual(names, {"wind.pdf", "rope.pdf"})

    def test_chunks_of_a_page_come_in_their_order_and_are_one_passage_of_a_page(self):
        small = {"rule": "natural-breaks", "unit": "tokens", "size": 10}
        select = {"k": 3, "budget_tokens": 200, "widening": {"kind": "page"}}
        terms = {"id": "terms", "kind": "bm25"}
        *_, pipeline = self.build([pdf(name) for name in PAGES], more=[terms], chunking=small, select=select)
        trace = pipeline.ask("the gondola stops at a mean wind")
        found = trace.stage("pages").chunks.tolist()
        starts = [(int(pipeline.chunks.document[chunk]), int(pipeline.chunks.start[chunk])) for chunk in found]
        self.assertEqual(starts[:2], sorted(starts[:2]))
        stage = trace.stage("context")
        ranges = {tuple(row) for row in stage.ranges[stage.kept].tolist()}
        texts = [pipeline.texts.documents[document].text[low:high] for document, low, high in ranges]
        (page,) = [text for text in texts if "gondola" in text]
        self.assertIn("Wind rules", page)
        self.assertNotIn("Ice", page)

    def test_documents_without_pages_are_seen_by_their_pictures(self):
        read = {painted("red"): "E-417 limit switch", painted("blue"): "anemometer"}
        lines = mock.patch("doppio.core.chunking.table.read_picture", lambda drawn: [
            ReadLine(read[drawn], 0.9, (0.0, 0.4, 1.0, 0.6))
        ])  # fmt: skip
        with lines:
            *_, pipeline = self.build([wall("one", "red"), wall("two", "blue")])
            self.assertEqual(self.first(pipeline, "what is E-417?")[0], "one")
            (shaded,) = pipeline.branches["pages"].shaded(Query("anemometer"), 1)
        self.assertEqual((shaded.page, shaded.picture), (0, 1))


class Seen(Built):
    def setUp(self):
        super().setUp()
        (self.root / "models").mkdir()
        # The shipped encoder counts tokens, the other one sees.
        for shipped in MODELS.iterdir():
            (self.root / "models" / shipped.name).symlink_to(shipped)
        self.encoder = registered(self.root / "models", self.root / "brought")
        self.models = Models(self.root / "models")
        self.documents = [wall("flag", "red", "white"), wall("pool", "blue"), wall("lawn", "green", "blue")]

    def test_words_are_met_by_what_patches_show(self):
        *_, pipeline = self.build(self.documents)
        self.assertEqual(self.first(pipeline, "green")[0], "lawn")
        self.assertEqual(self.first(pipeline, "red white")[0], "flag")
        (shaded,) = pipeline.branches["pages"].shaded(Query("blue"), 2)
        (match,) = shaded.matches
        np.testing.assert_array_equal(match.cosines > 0.9, shaded.places[:, 0] >= 0.5)
        self.assertEqual(len(shaded.places), GRID[0] * GRID[1])

    def test_a_picture_is_met_by_patches_too(self):
        *_, pipeline = self.build(self.documents)
        self.assertTrue(pipeline.branches["pages"].sees)
        self.assertEqual(self.first(pipeline, "", picture=painted("white", "red"))[0], "flag")
        self.assertEqual(self.first(pipeline, "red", picture=painted("green"), share=0.9)[0], "lawn")
        self.assertEqual(self.first(pipeline, "red", picture=painted("green"), share=0.1)[0], "flag")

    def test_pictures_of_the_branch_of_pictures_are_seen_by_it_too(self):
        branch = {"id": "shown", "kind": "pictures", "encoder": self.encoder, "said": 0, "read": 0, "around": 0}
        with mock.patch("doppio.core.chunking.table.read_picture", lambda drawn: []):
            *_, pipeline = self.build(self.documents, more=[branch])
        for word, name in (("red white", "flag"), ("blue", "pool"), ("green", "lawn")):
            self.assertEqual(self.first(pipeline, word, "shown")[0], name)
        self.assertEqual(self.first(pipeline, "", "shown", picture=painted("blue", size=(32, 64)))[0], "pool")

    def test_one_that_cannot_be_drawn_has_no_patches_and_harms_no_other(self):
        *_, pipeline = self.build([wall("torn", "red", broken=True), *self.documents])
        self.assertEqual(self.first(pipeline, "red")[0], "flag")
        self.assertEqual(pipeline.branches["pages"].index.of(0)[0].vectors.shape[0], 0)


class Changed(Built):
    def answers(self, pipeline):
        return [
            (stage.stage, stage.chunks.tolist(), [round(float(score), 5) for score in stage.scores])
            for question in ("wind", "a muzzle for the dog", "grease")
            for stage in pipeline.ask(question).stages
        ]

    def test_after_any_change_and_merge_it_answers_as_a_fresh_build(self):
        steps = (["wind.pdf", "dogs.pdf"], ["rope.pdf", "dogs.pdf"])
        for number, names in enumerate(steps):
            documents = [pdf(name) for name in names]
            builder, key, wanted, pipeline = self.build(documents)
            *_, fresh = self.build(documents, f"fresh-{number}")
            self.assertEqual(self.answers(pipeline), self.answers(fresh), names)
            with mock.patch("doppio.core.store.segments.MOST_PARTS", 1):
                builder.compact(builder.keys(key, wanted).chunks)
            self.assertEqual(builder.missing(builder.keys(key, wanted)), [])
            merged = builder.open(key, wanted, pipeline.texts)
            self.assertEqual(self.answers(merged), self.answers(fresh), f"{names}, merged")

    def test_one_that_was_stopped_goes_on_behind_what_was_done(self):
        documents = [pdf(name) for name in PAGES]
        real = making._looked_at
        fresh = self.answers(self.build(documents, "fresh")[-1])
        for torn in (False, True):
            calls = []

            def stopped(*given, calls=calls):
                calls.append(len(given[1]))
                if len(calls) == 2:
                    raise KeyboardInterrupt
                return real(*given)

            with self.subTest(torn=torn), mock.patch.object(making, "SHEETS_AT_ONCE", 2):
                with mock.patch.object(making, "_looked_at", stopped), self.assertRaises(KeyboardInterrupt):
                    self.build(documents, f"{torn}")
                (kept,) = (self.root / f"{torn}").glob(".encoding-*/*.npz")
                if torn:
                    # What did not reach the disk whole is made anew.
                    kept.write_bytes(kept.read_bytes()[:100])
                with mock.patch.object(making, "_looked_at", mock.Mock(side_effect=real)) as again:
                    *_, pipeline = self.build(documents, f"{torn}")
                self.assertEqual((calls, again.call_count), ([2, 2], 3 if torn else 2))
                self.assertEqual(self.answers(pipeline), fresh)
                self.assertEqual(list((self.root / f"{torn}").glob(".encoding-*")), [])

    def test_a_corpus_without_pages_has_nothing_to_find(self):
        builder = DocumentBuilder()
        builder.add(PARAGRAPH, "Words alone.")
        *_, pipeline = self.build([builder.build("alone")])
        self.assertEqual(len(pipeline.ask("words").stage("pages").chunks), 0)

    def test_variety_by_vectors_needs_a_branch_that_has_some(self):
        with self.assertRaisesRegex(RecipeError, "compares vectors, and no branch has any"):
            self.build([pdf("dogs.pdf")], select={"k": 2, "budget_tokens": 60, "diversity": {"kind": "vectors"}})
