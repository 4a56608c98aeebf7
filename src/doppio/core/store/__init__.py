"""Where built things are kept: artifacts, segments, and the pieces that an index is made of."""
