"""The stage views: one folder a stage, under the same name as in the interface."""
