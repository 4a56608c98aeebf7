"""What can be wrong with what Doppio was given, as a small tree of errors.

Every message says what was found, where, and what would be right.
"""


class DoppioError(Exception):
    """Base of all errors that a person can act on."""


class DocumentError(DoppioError):
    """A document cannot be read: the message names the file and the reason."""


class QuestionError(DoppioError):
    """A labelled question is wrong: the message names the file and the line."""


class RecipeError(DoppioError):
    """A recipe has an unknown key or a value out of range: the message names the field."""


class ModelFolderError(DoppioError):
    """A model folder lacks a file, or holds one that does not fit."""


class RemoteError(DoppioError):
    """A remote endpoint cannot be reached or answers with something else: the message names it."""


class ArtifactDamaged(DoppioError):
    """An artifact on disk does not match its checksums: the message names it."""


class StoreUnreachable(DoppioError):
    """The store of artifacts does not answer: the message names it."""


class NobodyAnswers(DoppioError):
    """None of the machines that hold an index answers: the message names them."""


class Cancelled(DoppioError):
    """Long work was cancelled by a person."""
