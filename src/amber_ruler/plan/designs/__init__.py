"""The designs: one for each kind of test."""
