"""What other parts may want to know of documents: labels move when a text changes, trials start when all is in."""

from django.dispatch import Signal

# Arguments: document (the record, already changed) and before (its old text). Receivers return a `Moved` or None.
text_changed = Signal()
# Arguments: workspace and documents (primary keys), before they are removed.
leaving = Signal()
# Arguments: workspace and documents (records), after they were added.
arrived = Signal()
# Argument: workspace, when an import or a removal is over and the documents stay as they are for now.
settled = Signal()
# Argument: digests of files that are about to be deleted. Receivers return the set of those that they still need.
still_needed = Signal()
# Arguments: workspace and user, after a workspace was made.
made = Signal()
# Arguments: before and after, workspaces. What outlives an emptying goes from one to the other.
emptied = Signal()
# Argument: workspace. Receivers return how many of what it holds, by name.
held = Signal()
# Argument: now. What has been kept for as long as the settings say goes.
tidying = Signal()
