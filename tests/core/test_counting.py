"""Tokens counted word by word, against the tokenizers' own work on whole texts."""

import unittest
from unittest import mock

from hypothesis import example, given, settings
from hypothesis import strategies as st
from tokenizers import AddedToken, Tokenizer, decoders, normalizers, pre_tokenizers, trainers
from tokenizers.models import BPE, Unigram, WordPiece

from doppio.core.models import counting
from doppio.core.models.counting import TokenCounts, keeps_to_words
from tests.core.corpus import MODELS, documents

# Letters that normalizers change, join or drop, white space that some tokenizers take for it, and what is added.
SIGNS = "aÅé\u0301Σς ß中\u1100\u1161ﬁ½.-#' \t\n\r\u00a0\u2003\u200b\x0b\x0c\x1c\x85[SEP]"
TEXTS = st.one_of(st.text(st.sampled_from(SIGNS), max_size=40), st.text(max_size=40))


def trained(pre_tokenizer, normalizer=None, model=None, **told):
    made = Tokenizer(model or BPE(unk_token="?"))
    made.pre_tokenizer, made.normalizer = pre_tokenizer, normalizer
    trainer = {BPE: trainers.BpeTrainer, WordPiece: trainers.WordPieceTrainer, Unigram: trainers.UnigramTrainer}
    given = trainer[type(made.model)](vocab_size=300, special_tokens=["?"], show_progress=False, **told)
    made.train_from_iterator([document.text for document in documents()], given)
    return made


BY_WORDS = {
    "the shipped one": lambda: Tokenizer.from_file(str(MODELS / "compact-english" / "tokenizer.json")),
    "pairs": lambda: trained(pre_tokenizers.Whitespace(), normalizers.NFKC()),
    "pieces": lambda: trained(pre_tokenizers.WhitespaceSplit(), normalizers.Lowercase(), WordPiece(unk_token="?")),
}
WHOLE = {
    "bytes": lambda: trained(pre_tokenizers.ByteLevel()),
    "likely pieces": lambda: trained(pre_tokenizers.Metaspace(), None, Unigram(), unk_token="?"),
    "replacing": lambda: trained(pre_tokenizers.Whitespace(), normalizers.Replace("a ", "b")),
}


def made(name):
    found = (BY_WORDS | WHOLE)[name]()
    found.no_truncation()
    found.no_padding()
    return found


class Counting(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.tokenizers = {name: made(name) for name in BY_WORDS | WHOLE}
        cls.counts = {name: TokenCounts(one) for name, one in cls.tokenizers.items()}

    def assert_same(self, name, texts):
        tokenizer = self.tokenizers[name]
        wanted = [len(tokenizer.encode(text, add_special_tokens=False).ids) for text in texts]
        self.assertEqual(self.counts[name].of(texts).tolist(), wanted, name)

    @settings(max_examples=300)
    @given(st.lists(TEXTS, max_size=5))
    @example(["[SEP] a[SEP]b", "a \u0301b", "a\x1cb", "\u200b", "ΑΣ ΑΣ."])
    def test_any_texts_have_the_tokens_that_the_tokenizer_gives_them(self, texts):
        for name in self.tokenizers:
            self.assert_same(name, texts)

    def test_which_tokenizers_are_counted_by_words(self):
        for name, one in self.tokenizers.items():
            self.assertEqual(keeps_to_words(one), name in BY_WORDS, name)
        self.tokenizers["pairs"].pre_tokenizer = pre_tokenizers.Whitespace()
        spaced = made("pairs")
        spaced.add_tokens([AddedToken("alarm E", normalized=False)])
        self.assertFalse(keeps_to_words(spaced))
        spaced.decoder = decoders.BPEDecoder()
        self.assertEqual(
            TokenCounts(spaced).of(["an alarm E"]).tolist(),
            [len(spaced.encode("an alarm E", add_special_tokens=False).ids)],
        )

    def test_whole_documents_counted_again_and_with_little_room_have_as_many(self):
        texts = [document.text for document in documents()] * 2
        with mock.patch.object(counting, "MOST_WORDS", 40), mock.patch.object(counting, "LONGEST", 6):
            for name in BY_WORDS:
                self.counts[name] = TokenCounts(self.tokenizers[name])
                self.assert_same(name, texts)
                self.assert_same(name, texts[:1])

    def test_words_that_are_known_are_not_cut_into_tokens_again(self):
        counts = TokenCounts(made("the shipped one"))
        before = counts.of(["The gondola stops in a storm.\n"])
        with mock.patch.object(TokenCounts, "_counted", side_effect=AssertionError("cut again")):
            self.assertEqual(counts.of(["stops in a storm. The\tgondola"]), before)


if __name__ == "__main__":
    unittest.main()
