"""The models that Doppio ships: weights of the encoder, and what a joint scorer learned on top, made into folders.

What they are made from is the folder that the weights' package was installed into.
"""

from pathlib import Path

from doppio.command.paths import MODELS, ROOT
from doppio.core.errors import ModelFolderError
from doppio.core.models.fitted_folder import FittedFolder, write_fitted
from doppio.core.models.folder import prepare_bytes, prepare_encoder, read_json
from doppio.core.models.scorer_folder import prepare_gated

ENCODER, BYTES = "compact-english", "compact-english-int8"
SCORER = "joint-english"
LEARNED = ROOT / "weights" / SCORER
WEIGHED = ("weighed-english", "weighed-light")


def make_encoder(weights: Path) -> None:
    """The encoder in four bytes a number."""
    source = weights_in(weights)
    prepare_encoder(
        source, MODELS / ENCODER, name=ENCODER, title="compact English encoder", max_tokens=256, licence="Apache-2.0"
    )


def make_scorer(weights: Path) -> None:
    """The shipped scorer in the precision that its figures are of, and those that weigh it beside plain facts."""
    _scorer(weights_in(weights), SCORER)
    for name in WEIGHED:
        manifest = ROOT / "weights" / f"{name}.json"
        write_fitted(MODELS, FittedFolder.from_json(name, read_json(manifest), str(manifest)))


def make_others(weights: Path) -> None:
    """Both in the other precision, to compare and for machines that want it."""
    _scorer(weights_in(weights), scorer_names()[1])
    prepare_bytes(MODELS / ENCODER, MODELS / BYTES, name=BYTES, title="compact English encoder, one byte a number")


def _scorer(source: Path, name: str) -> None:
    about = read_json(LEARNED.with_suffix(".json"))
    small = about["small"] == (name == SCORER)
    other = f"{about['title']}, {'one byte a number' if small else 'four bytes a number'}"
    told = ("title", "licence", "max_tokens", "blend", "window", "calibration", "answerable")
    fields = {key: about[key] for key in told if key in about}
    fields |= {"name": name, "title": about["title"] if name == SCORER else other}
    prepare_gated(source, LEARNED.with_suffix(".safetensors"), MODELS / name, small=small, fields=fields)


def scorer_names() -> tuple[str, str]:
    """Names of the shipped joint scorers: in the precision that its figures are of, and in the other one."""
    small = read_json(LEARNED.with_suffix(".json"))["small"]
    return SCORER, f"{SCORER}-{'float32' if small else 'int8'}"


def weights_in(folder: Path) -> Path:
    """Where the encoder's weights lie in an installed package.

    Raises
    ------
    ModelFolderError
        If they are not there.
    """
    found = next((path.parent for path in folder.glob("*/model/model.safetensors")), None)
    if found is None:
        raise ModelFolderError(f"{folder}: the weights package holds no model.safetensors")
    return found
