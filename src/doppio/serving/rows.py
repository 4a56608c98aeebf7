"""Which rows what is published stands in now: each has the transaction that wrote it and its place in its table, so
that one look tells whether anything is to be read again."""

# The publication is `p`; what hangs on it is joined.
STAMPS = "p.xmin, p.ctid, w.xmin, w.ctid, r.xmin, r.ctid, s.xmin, s.ctid"
BEHIND = (
    "JOIN library_workspace w ON w.id = p.workspace_id JOIN recipes_recipeversion r ON r.id = p.recipe_id "
    "LEFT JOIN recipes_recipeversion s ON s.id = p.second_id"
)
