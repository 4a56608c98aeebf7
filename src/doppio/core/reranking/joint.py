"""Joint scorers: a model reads question and passage together, here or behind an endpoint."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings
from doppio.core.models.joint import JointScorer
from doppio.core.models.registry import Models
from doppio.core.reranking.kind import Offered
from doppio.core.store.pieces import Maker, Needs, Opening, Planning


class Joint:
    """Those whose folders an administrator registered."""

    name, title, order = "joint", "joint scorer", 1
    settings: tuple[Setting, ...] = ()
    makers: Sequence[Maker] = ()

    def offers(self, models: Models) -> list[Offered]:
        return [
            Offered(
                folder.name,
                folder.title,
                max_tokens=None if folder.settings else folder.max_tokens,
                blend=folder.blend,
                window=folder.window,
                calibrated=folder.calibration is not None,
                answerable=folder.answerable is not None,
                remote=folder.settings is not None,
            )
            for folder in models.scorers()
        ]

    def needs(self, name: str, planning: Planning) -> Needs:
        return Needs()

    def open(self, name: str, settings: Settings, opening: Opening) -> JointScorer:
        return self.alone(name, opening.models)

    def alone(self, name: str, models: Models) -> JointScorer:
        return models.scorer(name)


KIND = Joint()
