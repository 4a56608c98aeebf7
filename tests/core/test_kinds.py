"""Kinds declare themselves: what there is follows from the modules that are there."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from jsonschema import Draft202012Validator

import doppio.core.fusion
from doppio.core.branches.dense.structure import built_settings
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.errors import RecipeError
from doppio.core.fusion.kind import METHODS, FusionMethod
from doppio.core.kinds import Family, families
from doppio.core.recipe import check as module
from doppio.core.recipe.check import check
from tests.core.test_recipe import body

TOY = """
from doppio.core.fusion.pouring import checked, pour
from doppio.core.kinds import whole

class FirstOnly:
    name, title, measure = "first-only", "the first branch alone", "1 / rank in the first branch"
    settings = (whole("skip", "Skipped", 0, 9, 0),)

    def fuse(self, rankings, weights, settings):
        import numpy as np
        given = [np.zeros(len(chunks)) for chunks, _ in rankings]
        given[0] = 1 / np.arange(1, len(given[0]) + 1)
        given[0][: settings["skip"]] = 0
        return pour([chunks for chunks, _ in rankings], given, weights)

KIND = FirstOnly()
"""


FUSION = ["reciprocal-rank", "scaled-scores", "scores-and-ranks", "standard-scores", "three-deviations",
          "scaled-from-least", "unit-length", "comb-mnz", "borda", "geometric-mean", "harmonic-mean"]  # fmt: skip


class Declared(unittest.TestCase):
    def test_what_a_kind_declares_holds_together(self):
        for family in (METHODS, STRUCTURES):
            self.assertGreater(len(family.kinds), 1)
            for kind in family:
                self.assertTrue(kind.title)
                for setting in kind.settings:
                    Draft202012Validator.check_schema(setting.schema)
                    Draft202012Validator(setting.schema).validate(setting.schema["default"])
        self.assertEqual(list(METHODS.kinds), FUSION)
        self.assertEqual(list(STRUCTURES.kinds), ["exact", "int8", "binary", "hnsw", "ivf", "pq"])

    def test_what_applies_when_asked_is_not_built_into_a_structure(self):
        for kind in STRUCTURES:
            settings = {"kind": kind.name, **{one.name: one.schema["default"] for one in kind.settings}}
            other = {**settings, **{one.name: one.schema["default"] + 1 for one in kind.settings if not one.built}}
            self.assertEqual(built_settings(settings), built_settings(other))
            for built, choices in kind.tried:
                for choice in choices:
                    self.assertEqual({*built, *choice}, {one.name for one in kind.settings}, kind.name)

    def test_names_that_are_none_are_told(self):
        with self.assertRaisesRegex(ValueError, "'best' is not one of reciprocal-rank, scaled-scores, "):
            METHODS.get("best")

    def test_a_module_that_is_put_beside_the_others_is_a_kind(self):
        with tempfile.TemporaryDirectory() as place:
            (Path(place) / "first_only.py").write_text(TOY)
            with mock.patch.object(doppio.core.fusion, "__path__", [*doppio.core.fusion.__path__, place]):
                with mock.patch.dict(families()):
                    family = Family("fusion", "doppio.core.fusion", FusionMethod, key="method", common=METHODS.common)
                self.assertEqual(list(family.kinds), [*FUSION, "first-only"])
            with mock.patch.object(module, "METHODS", family):
                found = check(body(fusion={"method": "first-only"}))
                self.assertEqual(found.fusion["skip"], 0)
                with self.assertRaisesRegex(RecipeError, "fusion.skip: 10 is not between 0 and 9"):
                    check(body(fusion={"method": "first-only", "skip": 10}))
            one, other = (np.array(ids) for ids in ([4, 2, 9], [7, 2]))
            rankings = [(one, np.ones(3, np.float32)), (other, np.ones(2, np.float32))]
            fused = family.get("first-only").fuse(rankings, [1, 1], found.fusion)
            self.assertEqual(fused.chunks.tolist(), [4, 2, 9, 7])


if __name__ == "__main__":
    unittest.main()
