"""`training/run`: manuals, hard passages, a training for each fold and one of all, judging, the file that ships."""

import argparse
import os
import warnings
from pathlib import Path

from doppio.command.show import progress_bars
from doppio.core.models.registry import Models
from training import manuals, mining

ROOT = Path(__file__).resolve().parent.parent
STEPS, STEPS_A_FOLD = 480, 400
ALL = "all"
PHASES = ("mine", "train", "judge", "ship")


def main() -> None:
    parser = argparse.ArgumentParser(prog="training/run", description=__doc__)
    parser.add_argument("phases", nargs="*", help=f"{', '.join(PHASES)}; all of them where none is named")
    parser.add_argument("--steps", type=int, default=STEPS, help="of the scorer that is shipped")
    parser.add_argument("--fold-steps", type=int, default=STEPS_A_FOLD, help="of those that it is judged by")
    parser.add_argument("--folds", default=None, help="only these trainings, such as 0,1 or all")
    given = parser.parse_args()
    phases = given.phases or list(PHASES)
    if unknown := set(phases) - set(PHASES):
        parser.error(f"{', '.join(sorted(unknown))}: known are {', '.join(PHASES)}")
    var = Path(os.environ.get("DOPPIO_VAR", ROOT / "var"))
    place = var / "training"
    warnings.filterwarnings("ignore", module="bs4")
    warnings.filterwarnings("ignore", message=".*parsed.*|.*looks like.*")
    versions = manuals.fetch(place / "manuals")
    models = Models(var / "models")
    mined: list[mining.Mined] = []
    for manual in manuals.MANUALS:
        for found in mining.mine(manual, place, models):
            told = f"{manual.package} {versions[manual.package]}, {found.cut}: {len(found.passages)} passages"
            print(f"{told}, {len(found.questions)} questions", flush=True)
            mined.append(found)
    weights = next((place / "weights").glob("*/model/config.json")).parent
    if "train" in phases:
        _train(weights, place, mined, given)
    if "judge" in phases:
        from training.judge import judge

        with progress_bars() as bars:
            judge(weights, place, mined, models, bars)
    if "ship" in phases:
        from training.ship import ship

        ship(place, versions, ROOT, given.steps)


def _train(weights: Path, place: Path, mined: list[mining.Mined], given: argparse.Namespace) -> None:
    from training.train import Trainer

    names = given.folds.split(",") if given.folds else [ALL, *map(str, range(manuals.FOLDS))]
    for name in names:
        folder = place / f"fold-{name}" if name != ALL else place / ALL
        if (folder / "learned.safetensors").exists():
            continue
        kept = [found for found in mined if name == ALL or found.fold != int(name)]
        Trainer(weights, folder, kept, given.steps if name == ALL else given.fold_steps).run()


if __name__ == "__main__":
    main()
