import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.chunking.natural_breaks import pauses
from doppio.core.chunking.table import cut, cut_one
from doppio.core.chunking.units import Units, characters, words
from doppio.core.text.document import HEADING, PARAGRAPH, Document, DocumentBuilder
from doppio.core.text.sentences import sentence_starts
from tests.core.corpus import documents, encoder

ALPHABETS = "abc de. \n,;E-417", "привет мир. \n", "مرحبا ابن. \n", "山の線。止まる\n ", "éé̂ ñ. \n", "🚡🏔️ 👩‍🚒. \n"
TEXTS = st.sampled_from(ALPHABETS).flatmap(lambda letters: st.text(letters, max_size=400))
RULES = st.sampled_from(["fixed-window", "natural-breaks"])
UNITS = {"characters": characters, "words": words}


class ChunksOfRandomText(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(TEXTS, RULES, st.sampled_from(["characters", "words"]), st.integers(8, 60), st.integers(0, 59))
    def test_every_rule_covers_all_text_within_size_and_overlap(self, text, rule, unit, size, overlap):
        overlap = min(overlap, size - 1)
        document = Document("d", "d", text)
        units = UNITS[unit](text)
        chunking = {"rule": rule, "unit": unit, "size": size, "overlap": overlap}
        starts, ends = cut_one(document, chunking, units)
        covered = np.zeros(len(text), bool)
        for start, end in zip(starts, ends, strict=True):
            self.assertLess(start, end)
            covered[start:end] = True
            self.assertLessEqual(units.count(np.array([start]), np.array([end]))[0], size)
        blank = np.array([sign.isspace() for sign in text], bool)
        self.assertTrue((covered | blank).all())
        self.assertTrue((np.diff(starts) > 0).all())
        self.assertTrue((np.diff(ends) > 0).all())
        shared = units.count(starts[1:], np.maximum(ends[:-1], starts[1:]))
        self.assertTrue((shared <= overlap).all())

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.text("abcdefg", min_size=1, max_size=9), max_size=80), st.integers(12, 60), st.integers(0, 8))
    def test_natural_breaks_never_cut_a_word_that_fits(self, parts, size, overlap):
        text = " ".join(parts)
        starts, ends = cut_one(
            Document("d", "d", text),
            {"rule": "natural-breaks", "unit": "characters", "size": size, "overlap": overlap},
            characters(text),
        )
        for start, end in zip(starts, ends, strict=True):
            self.assertTrue(start == 0 or text[start - 1] == " ")
            self.assertTrue(end == len(text) or text[end] == " ")


class NaturalBreaks(unittest.TestCase):
    def cut(self, document, size, overlap=0, unit="words"):
        chunking = {"rule": "natural-breaks", "unit": unit, "size": size, "overlap": overlap}
        starts, ends = cut_one(document, chunking, words(document.text))
        return [document.text[start:end] for start, end in zip(starts, ends, strict=True)]

    def test_a_paragraph_end_is_taken_before_a_line_end_and_a_sentence_end(self):
        text = "One two three four.\n\nFive six. Seven eight nine ten."
        self.assertEqual(
            self.cut(Document("d", "d", text), 7), ["One two three four.", "Five six. Seven eight nine ten."]
        )

    def test_a_sentence_end_is_taken_before_a_word_end(self):
        text = "One two three four. Five six seven eight nine."
        self.assertEqual(self.cut(Document("d", "d", text), 6), ["One two three four.", "Five six seven eight nine."])

    def test_a_heading_stays_with_the_text_below_it(self):
        builder = DocumentBuilder()
        builder.add(PARAGRAPH, "one two three four five")
        builder.add(HEADING, "Wind", 2)
        builder.add(PARAGRAPH, "six seven eight nine ten")
        self.assertEqual(
            self.cut(builder.build("d"), 6), ["one two three four five", "Wind\n\nsix seven eight nine ten"]
        )

    def test_an_overlap_begins_at_a_sentence_if_one_begins_within_it(self):
        text = "aa bb cc dd. Ee ff. Gg hh ii jj kk ll."
        chunks = self.cut(Document("d", "d", text), 6, 3)
        self.assertEqual(chunks[0], "aa bb cc dd. Ee ff.")
        self.assertTrue(chunks[1].startswith("Ee ff. Gg"))

    def test_pauses_rank_paragraph_line_sentence_and_word(self):
        text = "A bb. C\nd\n\ne"
        self.assertEqual(pauses(Document("d", "d", text), words(text)).tolist(), [5, 1, 2, 3, 4, 5])


class Sentences(unittest.TestCase):
    def test_abbreviations_initials_and_decimals_end_no_sentence(self):
        text = "At approx. 4.5 m/s, e.g. Tower B. Smith waits. It stops."
        self.assertEqual([text[start:] for start in sentence_starts(text)], ["It stops."])

    def test_sentences_of_scripts_without_spaces(self):
        self.assertEqual(sentence_starts("線は止まる。風が強い。").tolist(), [6])


class Table(unittest.TestCase):
    def test_tokens_are_counted_as_the_encoder_counts_them(self):
        corpus = documents()
        chunking = {"rule": "fixed-window", "unit": "words", "size": 9, "overlap": 2}
        table = cut(corpus, chunking, encoder())
        texts = [corpus[d].text[s:e] for d, s, e in zip(table.document, table.start, table.end, strict=True)]
        counted = [len(units.starts) for units in encoder().token_offsets(texts)]
        self.assertEqual(table.tokens.tolist(), counted)

    def test_each_chunk_knows_the_section_that_holds_most_of_it(self):
        builder = DocumentBuilder()
        for title in ("First", "Second"):
            builder.add(HEADING, title, 1)
            builder.add(PARAGRAPH, "word " * 12)
        document = builder.build("d")
        table = cut([document], {"rule": "fixed-window", "unit": "words", "size": 14, "overlap": 0}, _WordsAsTokens())
        self.assertEqual([document.section_path(i) for i in table.section], [("First",), ("Second",)])

    def test_no_documents_give_an_empty_table(self):
        chunking = {"rule": "fixed-window", "unit": "words", "size": 9, "overlap": 0}
        self.assertEqual(len(cut([], chunking, _WordsAsTokens())), 0)


class _WordsAsTokens:
    def token_offsets(self, texts) -> list[Units]:
        return [words(text) for text in texts]
