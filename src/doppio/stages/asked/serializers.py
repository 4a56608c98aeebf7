"""What the API says about questions and traces."""

from typing import Any

from rest_framework import serializers as s

from doppio.core.question.conditions import LONGEST
from doppio.library.serializers import FigureInTextSerializer
from doppio.stages.asked.beside import BesideSerializer


class AskSerializer(BesideSerializer):
    text = s.CharField(max_length=2000, allow_blank=True, help_text="May be empty beside a picture.")
    recipe = s.IntegerField(required=False, help_text="The recipe in force where it is left out.")

    def validate(self, values: dict[str, Any]) -> dict[str, Any]:
        if not values["text"].strip() and not values.get("picture"):
            raise s.ValidationError({"text": "write a question, or ask by a picture"})
        return values


class PartSerializer(s.Serializer):
    """One of several scorers of a step."""

    scorer = s.CharField()
    measure = s.CharField()
    weight = s.FloatField()
    raw = s.ListField(child=s.FloatField())


class StageTraceSerializer(s.Serializer):
    """Columns of one stage, best chunk first; `before` and the branch columns only where they apply."""

    stage = s.CharField()
    kind = s.ChoiceField(choices=["branch", "fused", "reranked", "context"])
    family = s.CharField(allow_blank=True, help_text="Of a branch: sparse or dense.")
    measure = s.CharField()
    seconds = s.FloatField()
    chunks = s.ListField(child=s.IntegerField())
    scores = s.ListField(child=s.FloatField())
    kept = s.ListField(child=s.BooleanField())
    reasons = s.ListField(child=s.CharField(allow_blank=True))
    before = s.ListField(child=s.IntegerField(), allow_null=True)
    branch_ranks = s.ListField(child=s.ListField(child=s.IntegerField()), allow_null=True)
    shares = s.ListField(child=s.ListField(child=s.FloatField()), allow_null=True)
    raw = s.ListField(child=s.FloatField(), allow_null=True, help_text="What a joint scorer gave, before blending.")
    raw_measure = s.CharField(allow_blank=True)
    windows = s.ListField(
        child=s.ListField(child=s.IntegerField()), allow_null=True, help_text="Parts that were read; -1 for all."
    )
    probability = s.ListField(
        child=s.FloatField(), allow_null=True, help_text="That the passage answers; null where no scorer says it."
    )
    parts = PartSerializer(many=True, help_text="What each of several scorers gave.")
    ranges = s.ListField(
        child=s.ListField(child=s.IntegerField()),
        allow_null=True,
        help_text="Of the context, where it widens: place of the document, start and end of what each hands on.",
    )
    widened = s.ListField(child=s.CharField(allow_blank=True), help_text="Why a passage was widened, or was not.")
    written = s.ListField(
        child=s.IntegerField(), allow_null=True, help_text="Place in the context as it is written; 0 for none."
    )
    instead = s.ListField(
        child=s.IntegerField(), allow_null=True, help_text="Chunk of the version that stands for it; -1 for none."
    )
    repeated = s.ListField(
        child=s.FloatField(), allow_null=True, help_text="How alike a passage is to what was chosen before it."
    )


class WordingSerializer(s.Serializer):
    """A wording of the question and what came of it; the question itself comes first."""

    text = s.CharField(allow_blank=True)
    source = s.CharField(  # type: ignore[assignment]
        allow_blank=True, help_text="Empty for the question as it was asked."
    )
    words = s.DictField(
        child=s.FloatField(), allow_null=True, help_text="What terms were searched by; null where it is all words."
    )
    cosine = s.FloatField(allow_null=True, help_text="Of its vector to the question's.")
    kept = s.FloatField(help_text="Share of the question's terms that it keeps.")
    dropped = s.CharField(allow_blank=True, help_text="Why it was not searched by.")
    found = s.DictField(child=s.IntegerField(), help_text="Hits by branch.")
    new = s.DictField(child=s.IntegerField(), help_text="Hits that no wording before it found.")


class BeforeSerializer(s.Serializer):
    """What happened before the search."""

    wordings = WordingSerializer(many=True)
    conditions = s.CharField(allow_blank=True)
    allowed = s.IntegerField(allow_null=True, help_text="Chunks that may be found; null where all may.")


class SaidSerializer(s.Serializer):
    text = s.CharField()
    cites = s.ListField(child=s.IntegerField(), help_text="Pieces of the context, by their numbers.")
    document = s.IntegerField(help_text="Its position in the corpus; -1 where the sentence stands nowhere so.")
    start = s.IntegerField()
    end = s.IntegerField()
    score = s.FloatField(help_text="How well it fits the question, as its answerer has it.")


class AnswerSerializer(s.Serializer):
    sentences = SaidSerializer(many=True)
    silent = s.CharField(allow_blank=True, help_text="Why nothing was said; empty where something was.")


class TraceSerializer(s.Serializer):
    question = s.CharField()
    recipe = s.CharField()
    tokens = s.IntegerField()
    seconds = s.DictField(child=s.FloatField())
    answered = s.FloatField(allow_null=True, help_text="Probability that any passage answers.")
    asked = BeforeSerializer(allow_null=True, help_text="Null where the question was searched by as it stands.")
    answer = AnswerSerializer(allow_null=True, help_text="Null where nothing answers, or before answers were kept.")
    stages = StageTraceSerializer(many=True)
    absent = s.ListField(
        child=s.CharField(), required=False, help_text="What of the index did not answer, where it is spread."
    )


class RangeSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()


class HostSerializer(s.Serializer):
    """What a nested chunk hands on; offsets of `answers` count code points of its text."""

    start = s.IntegerField()
    end = s.IntegerField()
    text = s.CharField()
    answers = RangeSerializer(many=True)


class TracedChunkSerializer(s.Serializer):
    """A chunk that a trace names; offsets of `answers` count code points of its text."""

    number = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField()
    end = s.IntegerField()
    tokens = s.IntegerField()
    text = s.CharField()
    host = HostSerializer(allow_null=True, help_text="What is handed on instead of the chunk.")
    handed = s.IntegerField(help_text="Tokens of what is handed on.")
    carried = s.DictField(child=s.CharField(), help_text="Fields that are handed on with it.")
    figures = FigureInTextSerializer(many=True, help_text="Pictures that stand in it.")
    relevant = s.BooleanField()
    answers = RangeSerializer(many=True)


class AskedBeforeSerializer(s.Serializer):
    text = s.CharField()
    asked_at = s.DateTimeField()


class SpanSerializer(s.Serializer):
    id = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)
    grade = s.FloatField()
    text = s.CharField(allow_blank=True)
    intact = s.BooleanField(help_text="Whether one chunk holds all of it.")
    chunks = s.ListField(child=s.IntegerField(), help_text="Relevant chunks.")


class QuestionRowSerializer(s.Serializer):
    id = s.IntegerField()
    identity = s.CharField()
    text = s.CharField()
    tags = s.ListField(child=s.CharField())
    set = s.IntegerField()
    group = s.CharField(allow_blank=True, help_text="Questions of one group are the same in other words.")
    only = s.CharField(allow_blank=True, help_text="Conditions that belong to it.")
    picture = s.CharField(allow_blank=True, help_text="A picture that it is asked by; empty where there is none.")
    share = s.FloatField(help_text="What that counts beside its words, 0 to 1.")
    answerable = s.BooleanField(help_text="Whether a label says where an answer stands.")
    unanswerable = s.BooleanField(help_text="Whether a person said that no document answers it.")
    lost = s.BooleanField(help_text="Whether all of its labels lost their place.")
    cause = s.CharField(allow_null=True, help_text="Row of the ledger; null before the first trial.")
    ranks = s.DictField(child=s.IntegerField(allow_null=True), help_text="Rank of the first relevant chunk a stage.")
    intact = s.BooleanField(allow_null=True)


class WriteQuestionSerializer(s.Serializer):
    text = s.CharField(max_length=10_000)
    tags = s.ListField(child=s.CharField(), required=False)
    set = s.IntegerField(required=False, help_text="The first set where it is left out.")
    group = s.CharField(required=False, allow_blank=True, max_length=120)
    only = s.CharField(required=False, allow_blank=True, max_length=LONGEST, help_text="Conditions of its own.")


class ChangeQuestionSerializer(s.Serializer):
    """What is left out stays."""

    text = s.CharField(required=False, max_length=10_000)
    tags = s.ListField(child=s.CharField(), required=False)
    set = s.IntegerField(required=False)
    group = s.CharField(required=False, allow_blank=True, max_length=120)
    only = s.CharField(required=False, allow_blank=True, max_length=LONGEST, help_text="Conditions of its own.")
    picture = s.RegexField(
        r"^([0-9a-f]{40})?\Z",
        required=False,
        allow_blank=True,
        help_text="As an upload names it; empty: none.",
    )
    share = s.FloatField(required=False, min_value=0, max_value=1, help_text="What it counts beside the words.")
    unanswerable = s.BooleanField(required=False)


class NoAnswerSerializer(s.Serializer):
    """A range that somebody looked at and found no answer in."""

    id = s.IntegerField()
    document = s.IntegerField()
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)


class NamedDocumentSerializer(s.Serializer):
    id = s.IntegerField()
    title = s.CharField()


class AbsentSerializer(s.Serializer):
    """Documents that the index that answered does not have yet; the first of them by name."""

    count = s.IntegerField()
    documents = NamedDocumentSerializer(many=True)


class HandedPieceSerializer(s.Serializer):
    """A stretch of a document that is handed on; offsets of `answers` and `found` count from its start."""

    number = s.IntegerField(help_text="Its place in the context as it is written, from 1.")
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    page = s.IntegerField(help_text="0 where the document has none.")
    lines = s.ListField(child=s.IntegerField(), help_text="First and last line of the document's text, from 1.")
    link = s.CharField(allow_blank=True, help_text="From the fields that it carries.")
    start = s.IntegerField()
    end = s.IntegerField()
    text = s.CharField()
    answers = RangeSerializer(many=True)
    chunks = s.ListField(child=s.IntegerField(), help_text="The passages that brought it.")
    found = RangeSerializer(many=True, help_text="What of it was found; the rest was added.")
    widened = s.CharField(allow_blank=True)
    carried = s.DictField(child=s.CharField())
    figures = FigureInTextSerializer(many=True, help_text="Pictures that stand in it.")


class AnswerFiguresSerializer(s.Serializer):
    f1 = s.FloatField(help_text="Of its words beside those of the best label.")
    exact = s.FloatField()
    holds = s.FloatField(help_text="Share of the label's words that it has.")
    cited = s.FloatField(
        allow_null=True, help_text="Share of its sentences that stand in, or cite, what is labelled."
    )

    labelled = s.ListField(child=s.BooleanField(), help_text="Of each sentence, whether it does.")


class HandedSerializer(s.Serializer):
    """What the assistant gets."""

    pieces = HandedPieceSerializer(many=True)
    written = s.CharField(allow_blank=True, help_text="All of it, by the recipe's template.")
    tokens = s.IntegerField(help_text="Of all that is written, templates included.")
    answer = AnswerFiguresSerializer(allow_null=True, help_text="What the answer is worth by the labels.")


class AskedSerializer(s.Serializer):
    """One question through the pipeline: `question` is null for a typed one."""

    built = s.BooleanField(help_text="Whether there are indexes to ask; if not, there is no trace.")
    absent = AbsentSerializer()
    kinds = s.DictField(child=s.CharField(), help_text="What each stage of the trace is: sparse, dense, fused, ...")
    sees = s.BooleanField(help_text="Whether a branch looks at pictures.")
    question = QuestionRowSerializer(allow_null=True)
    spans = SpanSerializer(many=True)
    no_answers = NoAnswerSerializer(many=True)
    trace = TraceSerializer()
    cause = s.CharField(allow_null=True)
    in_play = s.DictField(child=s.BooleanField())
    ranks = s.DictField(child=s.IntegerField(allow_null=True))
    chunks = TracedChunkSerializer(many=True)
    handed = HandedSerializer()
