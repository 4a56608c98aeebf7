"""No answer: the context is what is wanted."""

from doppio.core.kinds import Setting, Settings
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models


class NoAnswer:
    """See the module."""

    name, title, order = "none", "not answered", 0
    settings: tuple[Setting, ...] = ()

    def open(self, settings: Settings, models: Models, encoder: Encoder) -> None:
        return None


KIND = NoAnswer()
