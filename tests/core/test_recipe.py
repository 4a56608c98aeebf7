import json
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from doppio.core.errors import RecipeError
from doppio.core.recipe.check import check, check_chunking, read_recipe
from doppio.core.recipe.page import tables
from tests.core.corpus import ROOT, recipe


def body(**changes):
    base = {
        "format": "doppio-recipe/1",
        "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24},
        "branches": [{"id": "sparse", "kind": "bm25"}, {"id": "dense", "kind": "vector"}],
    }
    return {**base, **changes}


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner),
)


class Mistakes(unittest.TestCase):
    def refused(self, given, message):
        with self.assertRaises(RecipeError) as caught:
            check(given)
        self.assertIn(message, str(caught.exception))

    def test_a_value_out_of_range_names_the_field_and_what_is_allowed(self):
        branches = [{"id": "sparse", "kind": "bm25"}, {"id": "dense", "kind": "vector", "depth": 0}]
        self.refused(body(branches=branches), "branches[1].depth: 0 is not between 1 and 10000")

    def test_an_unknown_key_names_itself_and_those_allowed(self):
        self.refused(body(fussion={}), "fussion: unknown key; allowed are format, name, chunking")
        fusion = {"method": "scaled-scores", "k": 60}
        self.refused(body(fusion=fusion), "fusion.k: unknown key; allowed are method, weights, depth")

    def test_each_kind_of_mistake(self):
        chunking = body()["chunking"]
        for wrong, message in (
            ([], "recipe: [] is not an object"),
            ({}, "chunking: missing"),
            (body(format="doppio-recipe/9"), 'format: "doppio-recipe/9" is not doppio-recipe/1'),
            (body(chunking={**chunking, "unit": "lines"}), 'chunking.unit: "lines" is not one of tokens, words'),
            (body(chunking={**chunking, "overlap": 160}), "chunking.overlap: 160 is not below chunking.size, 160"),
            (body(chunking={**chunking, "size": "big"}), 'chunking.size: "big" is not a whole number'),
            (body(branches=[]), "branches"),
            (body(branches=[{"id": "x", "kind": "guess"}]), 'branches[0].kind: "guess" is not one of bm25, vector'),
            (body(branches=[{"id": "X y", "kind": "bm25"}]), "branches[0].id"),
            (body(branches=[{"id": "a", "kind": "bm25"}] * 2), "branches[1].id: 'a' stands for another branch"),
            (body(branches=[{"id": "fused", "kind": "bm25"}]), "'fused' is the name of a stage"),
            (body(fusion={"method": "votes"}), 'fusion.method: "votes" is not one of'),
            (body(fusion={"method": "scaled-scores", "weights": {"other": 1}}), "fusion.weights.other: no branch"),
            (body(fusion={"method": "scaled-scores", "weights": {"sparse": 0, "dense": 0}}), "all are 0"),
            (body(rerank={"scorer": "late-interaction", "shortlist": 60}), "60 is above fusion.depth, 50"),
            (
                body(rerank={"scorer": "late-interaction", "floor": 7000}),
                "rerank.floor: 7000 is not between -1000 and 1000",
            ),
            (body(select={"k": True}), "select.k"),
            (body(select={"diversity": 0.5}), "select.diversity: 0.5 is not an object"),
        ):
            with self.subTest(message):
                self.refused(wrong, message)

    @given(JSON)
    def test_no_json_value_does_worse_than_a_recipe_error(self, value):
        for wrong in (value, body(fusion=value), body(branches=value), body(rerank=value), body(select=value)):
            try:
                check(wrong)
            except RecipeError as error:
                self.assertTrue(str(error))

    def test_a_file_that_is_not_json_names_its_line(self):
        with tempfile.NamedTemporaryFile("w", suffix=".json") as file:
            file.write('{\n "format": oops\n}')
            file.flush()
            with self.assertRaisesRegex(RecipeError, "line 2: not JSON"):
                read_recipe(Path(file.name))


class Numbers(unittest.TestCase):
    def test_numbers_that_are_not_finite_are_refused_by_name(self):
        for value in (float("nan"), float("inf"), -float("inf")):
            with self.assertRaisesRegex(RecipeError, r"^branches\[0\].k1: -?(nan|inf) is not a finite number$"):
                recipe(branches=[{"id": "sparse", "kind": "bm25", "k1": value}])
            with self.assertRaisesRegex(RecipeError, "^chunking.size: "):
                check_chunking({"rule": "fixed-window", "unit": "words", "size": value})

    def test_whole_numbers_are_whole_however_they_are_written(self):
        written = recipe(branches=[{"id": "sparse", "kind": "bm25", "depth": 50.0}], select={"k": 5.0})
        self.assertIs(type(written.branches[0]["depth"]), int)
        self.assertIs(type(written.select["k"]), int)
        plain = recipe(branches=[{"id": "sparse", "kind": "bm25", "depth": 50}], select={"k": 5})
        self.assertEqual(written.fingerprint, plain.fingerprint)
        size = check_chunking({"rule": "fixed-window", "unit": "words", "size": 160.0, "overlap": 0.0})["size"]
        self.assertIs(type(size), int)
        with self.assertRaisesRegex(RecipeError, "depth: 50.5 is not a whole number"):
            recipe(branches=[{"id": "sparse", "kind": "bm25", "depth": 50.5}])

    def test_ids_end_where_their_pattern_ends(self):
        for identity in ("sparse\n", "sparse\u2028"):
            with self.assertRaisesRegex(RecipeError, r"branches\[0\].id: .* is not a short name"):
                recipe(branches=[{"id": identity, "kind": "bm25"}])

    def test_what_is_nested_deeper_than_any_recipe_is_refused(self):
        deep = "x"
        for _ in range(100_000):
            deep = [deep]
        with self.assertRaisesRegex(RecipeError, "nested too deeply"):
            check({"chunking": deep})


class Synonyms(unittest.TestCase):
    def synonyms(self, groups):
        return recipe(branches=[{"id": "sparse", "kind": "bm25", "analysis": {"synonyms": groups}}])

    def test_groups_that_are_none_are_named_with_their_place(self):
        self.synonyms([["a"] * 50, ["b" * 100, "c"]])
        for groups, message in (
            ([["a", "b"], ["a"]], r"synonyms\[1\]: 1 words or phrases; a group has 2 to 50"),
            ([["a"] * 51], r"synonyms\[0\]: 51 words or phrases"),
            ([["a", 3]], r"branches\[0\].analysis.synonyms\[0\]\[1\]: 3 is not a text"),
            ([["a", ""]], r"synonyms\[0\]\[1\]: 0 characters; 1 to 100 are allowed"),
            (["a"], r'synonyms\[0\]: "a" is not a list'),
            ([["a", "b"]] * 5001, r"synonyms: 5,001 groups; 5,000 are allowed"),
            ("a", r"synonyms: \"a\" is not a list"),
        ):
            with self.assertRaisesRegex(RecipeError, message):
                self.synonyms(groups)


class Page(unittest.TestCase):
    def test_the_page_of_formats_tells_what_the_kinds_declare(self):
        self.assertIn(tables(), (ROOT / "docs" / "formats.md").read_text())


class Remarks(unittest.TestCase):
    def test_a_context_larger_than_what_comes_to_it_is_remarked(self):
        self.assertEqual(recipe(select={"k": 20}, rerank={"scorer": "joint", "shortlist": 20}).remarks, [])
        (said,) = recipe(select={"k": 21}, rerank={"scorer": "joint", "shortlist": 20}).remarks
        self.assertRegex(said, "^select.k: 21 is above rerank.shortlist, 20; no more")
        (said,) = recipe(select={"k": 21}, rerank=None, fusion={"method": "reciprocal-rank", "depth": 20}).remarks
        self.assertRegex(said, "^select.k: 21 is above fusion.depth, 20; no more")

    def test_a_branch_without_weight_is_remarked(self):
        (said,) = recipe(fusion={"method": "scaled-scores", "weights": {"sparse": 1, "dense": 0}}).remarks
        self.assertRegex(said, "^fusion.weights.dense: 0, so this branch")


class Sound(unittest.TestCase):
    def test_what_is_left_out_is_filled_in(self):
        filled = check(body())
        self.assertEqual(filled.branches[0]["k1"], 1.2)
        self.assertEqual(filled.fusion["weights"], {"sparse": 1, "dense": 1})
        self.assertIsNone(filled.rerank)
        self.assertEqual(filled.stages, ["sparse", "dense", "fused", "context"])

    def test_checking_a_checked_recipe_changes_nothing(self):
        self.assertEqual(check(recipe().body).body, recipe().body)

    def test_the_fingerprint_ignores_the_name_and_sees_all_else(self):
        self.assertEqual(check(body(name="a")).fingerprint, check(body(name="b")).fingerprint)
        self.assertNotEqual(check(body(select={"k": 3})).fingerprint, check(body()).fingerprint)

    def test_what_fusion_passes_on_is_the_shortlist_or_what_the_context_takes(self):
        self.assertEqual(recipe().passed_by_fusion, 5)
        self.assertEqual(recipe(rerank=None).passed_by_fusion, 2)

    def test_the_shipped_recipes_are_sound(self):
        for path in (ROOT / "demo" / "recipes").glob("*.json"):
            self.assertEqual(read_recipe(path).body["format"], json.loads(path.read_text())["format"])


class Chunkings(unittest.TestCase):
    def refused(self, message, **chunking):
        with self.assertRaises(RecipeError) as caught:
            check(body(chunking={"unit": "words", "size": 40, **chunking}))
        self.assertIn(message, str(caught.exception))

    def test_each_rule_has_settings_of_its_own_and_its_defaults(self):
        found = check(body(chunking={"rule": "outline", "unit": "words", "size": 40})).chunking
        self.assertEqual(
            found,
            {"rule": "outline", "unit": "words", "size": 40, "overlap": 0, "minimum": 0, "context": "none",
             "host": None, "level": 2},
        )  # fmt: skip
        topic = check(body(chunking={"rule": "topic-shift", "unit": "words", "size": 40})).chunking
        self.assertEqual((topic["signal"], topic["window"], topic["sensitivity"]), ("terms", 3, 0.5))

    def test_mistakes_are_named_with_what_is_allowed(self):
        self.refused('chunking.rule: "paragraphs" is not one of natural-breaks', rule="paragraphs")
        self.refused("chunking.level: unknown key", rule="rows", level=2)
        self.refused("chunking.overlap: 40 is not below chunking.size, 40", rule="outline", overlap=40)
        self.refused("chunking.overlap: 60 is not between 0 and 50", rule="sentence-groups", overlap=60)
        self.refused("chunking.minimum: 50 is above chunking.size, 40", rule="outline", minimum=50)
        self.refused("chunking.host.size: 20 is below chunking.size, 40", rule="outline", host={"size": 20})
        self.refused('chunking.context: "all" is not one of none, title, path', rule="outline", context="all")

    def test_a_recipe_from_before_has_the_new_settings_at_their_defaults(self):
        chunking = {"rule": "fixed-window", "unit": "words", "size": 40, "overlap": 0}
        old = check({**check(body()).body, "chunking": chunking})
        self.assertEqual((old.chunking["minimum"], old.chunking["context"], old.chunking["host"]), (0, "none", None))

    @given(JSON)
    def test_anything_is_accepted_or_refused_with_a_message(self, chunking):
        try:
            self.assertEqual(check_chunking(chunking)["rule"], chunking["rule"])
        except RecipeError as error:
            self.assertIn("chunking", str(error))
