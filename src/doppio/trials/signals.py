"""What other parts may want to know of trials."""

from django.dispatch import Signal

# Arguments: trial (a record), pipeline, and names of its documents in the order of its corpus.
recorded = Signal()
